package main

import (
	"context"
	_ "embed"
	"net"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"text/template"

	"github.com/briskwarden/briskwarden/door"
	"github.com/briskwarden/briskwarden/examples/internal/standin"
)

//go:embed nginx.conf
var nginxConf string

// behind is an nginx in front of the apps of a trial.
type behind struct {
	// url is where it answers, and secret what it tells the app, so that nobody else speaks for it.
	url, secret string
	cmd         *exec.Cmd
}

// startNginx starts an nginx whose files are in a folder, where it is installed; else it returns nil. It stops with the context.
func (t *trial) startNginx(ctx context.Context, dir string) (*behind, error) {
	program, err := exec.LookPath("nginx")
	if err != nil {
		return nil, nil
	}
	// nginx listens by itself, so a free port is found first.
	free, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return nil, err
	}
	at := free.Addr().(*net.TCPAddr)
	if err := free.Close(); err != nil {
		return nil, err
	}
	b := &behind{url: "http://localhost:" + strconv.Itoa(at.Port), secret: standin.NewToken()}
	file, err := os.OpenFile(filepath.Join(dir, "nginx.conf"), os.O_CREATE|os.O_WRONLY|os.O_EXCL, 0o600)
	if err != nil {
		return nil, err
	}
	err = template.Must(template.New("nginx").Parse(nginxConf)).Execute(file, map[string]any{"Places": places, "Apps": apps,
		"Listen": at.String(), "Secret": b.secret, "Trial": t.base})
	if closed := file.Close(); err == nil {
		err = closed
	}
	if err != nil {
		return nil, err
	}
	t.pages.LetFormsLeadTo(b.url)
	t.pages.LetFormsLeadTo(t.base) // from a page behind nginx
	b.cmd = exec.CommandContext(ctx, program, "-p", dir, "-c", "nginx.conf", "-e", filepath.Join(dir, "error.log"))
	b.cmd.Cancel = func() error { return b.cmd.Process.Signal(os.Interrupt) } // a fast stop
	return b, b.cmd.Start()
}

// serveBehind is the app behind nginx, which says who was let in.
func (t *trial) serveBehind(w http.ResponseWriter, r *http.Request) {
	if t.nginx == nil || r.Header.Get("X-Nginx") != t.nginx.secret {
		http.NotFound(w, r)
		return
	}
	x := appNamed(r.PathValue("app"))
	if x == nil {
		http.NotFound(w, r)
		return
	}
	t.pages.Write(w, r, http.StatusOK, "app", x.Name+", behind nginx",
		step{App: x.Name, Home: t.base, Account: r.Header.Get(door.AccountHeader), Say: x.words})
}

// backCookie says that an app was opened behind nginx, and that the browser is to go back there.
const backCookie = "back"
