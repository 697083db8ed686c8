package standin

import (
	"net/http"
	"net/url"
	"strconv"
	"time"
)

const phoneTemplates = `{{define "phones"}}<p>Whose phone?</p>
<form action="/phone"><label for="account">Account</label><input id="account" name="account" autocomplete="off" autofocus>
<button class="first">Look at it</button></form>
{{end}}
{{define "phone"}}<p>{{.Data.Account}}</p>
{{if .Data.Silent}}<p class="quiet">This phone is out of reach: it shows nothing.</p>{{end}}
{{range .Data.Waiting}}<form class="card" method="post" action="/phone">{{$.Form}}
<h2>Is it you who signs on to {{.App}}?</h2>
{{with .From}}<p>{{.}}</p>{{end}}
<p>Asked at {{.Asked.Format "15:04:05"}}. Type the number that is shown there.</p>
<input type="hidden" name="account" value="{{.Account}}"><input type="hidden" name="prompt" value="{{.ID}}">
<label for="n{{.ID}}">Number</label><input id="n{{.ID}}" name="number" inputmode="numeric" autocomplete="off">
<button class="first" name="answer" value="approve">Yes, it is me</button><button name="answer" value="refuse">No, turn it away</button>
</form>{{else}}{{if not .Data.Silent}}<p>Nobody asks anything just now.
<a href="/phone?account={{.Data.Account}}">Look again</a></p>{{end}}{{end}}
{{range .Data.Texts}}<p class="card">Text message: your code is <strong>{{.Code}}</strong>. Tell it to nobody.</p>{{end}}
{{if .Data.Code}}<p class="card">The app for codes shows <strong>{{.Data.Code}}</strong>.</p>{{end}}
<form method="post" action="/phone">{{.Form}}<input type="hidden" name="account" value="{{.Data.Account}}">
{{if .Data.Silent}}<button name="answer" value="reach">Put it back in reach</button>
{{else}}<button name="answer" value="silence">Take it out of reach</button>{{end}}</form>
{{end}}`

// phoneView is what the page of a phone shows.
type phoneView struct {
	Account string
	Waiting []Prompt
	Texts   []Text
	Code    string
	Silent  bool
}

// Page is the page of the phones, at /phone: what a phone shows, with times of a zone, and what its owner answers.
func (p *Phones) Page(people *People, zone *time.Location) http.Handler {
	pages := NewPages(phoneTemplates, "")
	mux := http.NewServeMux()
	mux.HandleFunc("GET /phone", func(w http.ResponseWriter, r *http.Request) {
		account := r.FormValue("account")
		if account == "" {
			pages.Write(w, r, http.StatusOK, "phones", "A phone", nil)
			return
		}
		v := phoneView{Account: account, Waiting: p.Waiting(account), Texts: p.Texts(account), Silent: p.IsSilent(account)}
		if !v.Silent {
			v.Code = people.Code(account, p.now())
		}
		for i := range v.Waiting {
			v.Waiting[i].Asked = v.Waiting[i].Asked.In(zone)
		}
		pages.Write(w, r, http.StatusOK, "phone", "A phone", v)
	})
	mux.HandleFunc("POST /phone", func(w http.ResponseWriter, r *http.Request) {
		if !pages.Sent(w, r) {
			return
		}
		account := r.PostFormValue("account")
		switch answer := r.PostFormValue("answer"); answer {
		case "silence", "reach":
			p.Silence(account, answer == "silence")
		default:
			n, err := strconv.Atoi(r.PostFormValue("number"))
			p.Answer(account, r.PostFormValue("prompt"), answer == "approve" && err == nil, n)
		}
		http.Redirect(w, r, "/phone?"+url.Values{"account": {account}}.Encode(), http.StatusSeeOther)
	})
	return mux
}
