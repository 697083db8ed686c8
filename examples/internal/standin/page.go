package standin

import (
	"bytes"
	"crypto/hmac"
	"crypto/sha256"
	_ "embed"
	"encoding/base64"
	"encoding/hex"
	"html/template"
	"log/slog"
	"net/http"
	"net/url"
	"strings"

	"github.com/briskwarden/briskwarden/internal/terminal"
)

//go:embed style.css
var style string

// Pages are pages in the ferry line's own style. They load nothing from elsewhere.
type Pages struct {
	templates *template.Template
	script    string
	policy    string
	key       []byte
	// formsTo are origins elsewhere that a form may lead to.
	formsTo []string
}

// LetFormsLeadTo lets the answer to a form lead to another origin, such as that of a proxy in front of the same apps. It is called before
// any page is written.
func (p *Pages) LetFormsLeadTo(origin string) { p.formsTo = append(p.formsTo, origin) }

const frame = `<!DOCTYPE html>
<html lang="en">
<head>
<meta charset="utf-8">
<meta name="viewport" content="width=device-width, initial-scale=1">
<title>{{.Title}} · Kestrel Sound Ferries</title>
<style>{{.Style}}</style>
</head>
<body>
<header><p class="line">Kestrel Sound Ferries</p></header>
<main>
<h1>{{.Title}}</h1>
{{.Body}}
</main>
<footer><p>A stand-in for trials: people, secrets and phones are made up.</p></footer>
{{with .Script}}<script>{{.}}</script>
{{end}}</body>
</html>
{{define "wrong"}}<div class="stop" role="alert"><h2>{{.Data.Say}}</h2></div>
<p><a href="{{.Data.Back}}">Go back</a></p>
{{end}}`

// NewPages makes pages of templates, in the syntax of html/template, with a script, "" for none. In a template .Form is the
// field that each form needs, and .Data what is shown.
func NewPages(templates, script string) *Pages {
	t := template.Must(template.New("frame").Parse(frame))
	// A page may run its own script alone, load nothing but what that fetches here, and send forms to nobody else.
	policy := "default-src 'none'; style-src " + hashOf(style)
	if script != "" {
		policy += "; script-src " + hashOf(script) + "; connect-src 'self'"
	}
	policy += "; base-uri 'none'; frame-ancestors 'none'; form-action 'self'"
	return &Pages{templates: template.Must(t.Parse(templates)), script: script, policy: policy, key: draw(32)}
}

// hashOf names a text in a Content-Security-Policy (Level 3 section 2.3.1).
func hashOf(text string) string {
	sum := sha256.Sum256([]byte(text))
	return "'sha256-" + base64.StdEncoding.EncodeToString(sum[:]) + "'"
}

// view is what a template is given.
type view struct {
	Form template.HTML
	Data any
}

// framed is what the frame is given.
type framed struct {
	Title  string
	Style  template.CSS
	Body   template.HTML
	Script template.JS
}

// Write answers with a page, once all of it has been made. It sets the cookie that the forms of the page need.
func (p *Pages) Write(w http.ResponseWriter, r *http.Request, status int, name, title string, data any) {
	var body, page bytes.Buffer
	err := p.templates.ExecuteTemplate(&body, name, view{p.form(w, r), data})
	if err == nil {
		// The body comes from html/template, which has escaped what others wrote.
		err = p.templates.ExecuteTemplate(&page, "frame", framed{title, template.CSS(style), template.HTML(body.String()), template.JS(p.script)})
	}
	if err != nil {
		slog.Error("a page was not made", "page", name, "error", err)
		http.Error(w, "This page could not be made.", http.StatusInternalServerError)
		return
	}
	h := w.Header()
	h.Set("Content-Type", "text/html; charset=utf-8")
	h.Set("Content-Security-Policy", strings.Join(append([]string{p.policy}, p.formsTo...), " "))
	h.Set("X-Content-Type-Options", "nosniff")
	h.Set("Referrer-Policy", "same-origin")
	h.Set("Cache-Control", "no-store")
	w.WriteHeader(status)
	// No character that others wrote turns text round or hides it. A browser that has gone away reads nothing.
	_, _ = terminal.Gate(w).Write(page.Bytes())
}

// formCookie holds what the field of a form is made from, so that no other site can send one.
const formCookie = "form"

// form returns the hidden field of a form.
func (p *Pages) form(w http.ResponseWriter, r *http.Request) template.HTML {
	token := ""
	if c, err := r.Cookie(formCookie); err == nil && len(c.Value) == 32 {
		token = c.Value
	} else {
		token = NewToken()
		http.SetCookie(w, &http.Cookie{Name: formCookie, Value: token, Path: "/", HttpOnly: true, SameSite: http.SameSiteStrictMode})
	}
	return template.HTML(`<input type="hidden" name="form" value="` + p.field(token) + `">`)
}

func (p *Pages) field(token string) string {
	mac := hmac.New(sha256.New, p.key)
	mac.Write([]byte(token))
	return hex.EncodeToString(mac.Sum(nil))
}

// Sent reports whether a request is a form of one of these pages, and answers it where it is not.
func (p *Pages) Sent(w http.ResponseWriter, r *http.Request) bool {
	r.Body = http.MaxBytesReader(w, r.Body, 64<<10)
	c, err := r.Cookie(formCookie)
	if err != nil || !hmac.Equal([]byte(p.field(c.Value)), []byte(r.PostFormValue("form"))) {
		p.Wrong(w, r, http.StatusForbidden, "This form is too old. Go back, and send it once more.")
		return false
	}
	return true
}

// Wrong answers with a page that says what is wrong, and leads back to the page that the request came from.
func (p *Pages) Wrong(w http.ResponseWriter, r *http.Request, status int, say string) {
	back := "/"
	if from, err := url.Parse(r.Referer()); err == nil && from.Host == r.Host && from.Path != "" {
		back = from.RequestURI()
	}
	p.Write(w, r, status, "wrong", "That did not work", map[string]string{"Say": say, "Back": back})
}
