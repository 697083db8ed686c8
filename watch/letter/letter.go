// Package letter words what package watch tells: alerts that rang and digests, as a subject, a text and an
// HTML part of a mail, and as JSON for a web hook. Each begins with what happened, and says what to do and
// where to look. It sends nothing.
package letter

import (
	"bytes"
	_ "embed"
	"encoding/json"
	"fmt"
	"html/template"
	"net/url"
	"strings"
	"time"
	"unicode/utf8"

	"github.com/briskwarden/briskwarden/admin/report"
	"github.com/briskwarden/briskwarden/internal/terminal"
	"github.com/briskwarden/briskwarden/internal/words"
	"github.com/briskwarden/briskwarden/watch"
	"github.com/briskwarden/briskwarden/watch/lookout"
)

// Letter is what is told, in all its forms.
type Letter struct {
	// ID is the same each time the letter is sent: a reader who gets it twice can tell. Sender sets it.
	ID string `json:"id" doc:"its name, the same each time it is sent"`
	// At is when it was written.
	At      time.Time `json:"at" doc:"when it was written"`
	To      string    `json:"to" doc:"the recipient, as the book names them"`
	Subject string    `json:"subject" doc:"what happened, in a line"`
	Text    string    `json:"text" doc:"all of it as plain text"`
	HTML    string    `json:"html,omitzero" doc:"all of it as HTML; not in a web hook"`
	// Rings and Digest are what it is about, for a program.
	Rings  []lookout.Ring `json:"rings,omitempty" doc:"the alerts that rang"`
	Digest *Digest        `json:"digest,omitempty" doc:"of a digest, what it sums up"`
}

// Digest is what a digest sums up, for a program.
type Digest struct {
	Name     string           `json:"name" doc:"the digest"`
	From     time.Time        `json:"from" doc:"the beginning of what it sums up"`
	To       time.Time        `json:"to" doc:"the end"`
	Happened string           `json:"happened" doc:"what happened, in a sentence"`
	Wrong    string           `json:"wrong" doc:"what is wrong, in a sentence"`
	Do       string           `json:"do" doc:"what to do first, in a sentence"`
	Granted  int64            `json:"granted" doc:"how many attempts were granted"`
	StepUps  int64            `json:"step_ups" doc:"how many were asked for more"`
	Blocked  int64            `json:"blocked" doc:"how many were blocked"`
	Troubles []report.Trouble `json:"troubles" doc:"what looks wrong, the worst first"`
	Next     []report.Step    `json:"next" doc:"what to do, the most urgent first"`
}

// Hook returns the letter as a web hook tells it: JSON without the HTML.
func (l *Letter) Hook() []byte {
	told := *l
	told.HTML = ""
	var text bytes.Buffer
	e := json.NewEncoder(&text)
	e.SetEscapeHTML(false)
	if err := e.Encode(&told); err != nil {
		panic(err) // its fields are all of this module
	}
	return text.Bytes()
}

// Options say for whom letters are.
type Options struct {
	Zone *time.Location
	// Door is the URL of the door's pages, without a / at its end; where it is "", letters name Commands.
	Door string
	// Commands are the flags of journal list that find the journal, such as --config door.yaml.
	Commands []string
}

// body is what a letter is made of, before it is text or HTML.
type body struct {
	Title  string
	Lead   []string
	Blocks []block
	Foot   string
}

// block is a part of it.
type block struct {
	Title string
	Text  []string
	Head  []string
	Rows  [][]string
	// Look are links or commands that show what is behind it.
	Look []look
}

type look struct {
	Name string
	// Link is a URL, "" for a command.
	Link, Command string
}

// List returns the page that lists decisions by a query, or the command that does.
func (o *Options) list(name string, query url.Values) look {
	if o.Door != "" {
		return look{Name: name, Link: o.Door + "/watch/decisions?" + query.Encode()}
	}
	command := append(terminal.Command("briskwarden journal list"), o.Commands...)
	for _, flag := range []string{"account", "app", "ip", "from", "to"} {
		if value := query.Get(flag); value != "" {
			command = append(command, terminal.Command("--"+flag+" %s", value)...)
		}
	}
	return look{Name: name, Command: strings.Join(command, " ")}
}

// OfRings words a letter about alerts. The scheme is the one that rang.
func OfRings(p *lookout.Post, scheme *watch.Scheme, at time.Time, o Options) *Letter {
	b := body{Title: "What to know", Foot: foot(o)}
	for i := range p.Rings {
		b.Blocks = append(b.Blocks, ringBlock(&p.Rings[i], scheme, o))
	}
	l := &Letter{At: at.UTC(), To: p.To, Rings: p.Rings}
	switch n := len(p.Rings) + p.More; {
	case n == 1:
		l.Subject = b.Blocks[0].Title
		b.Title, b.Blocks[0].Title = b.Blocks[0].Title, ""
	default:
		l.Subject = fmt.Sprintf("%s: %s", words.Count(n, "alert"), words.UpTo(3, names(p.Rings)))
		b.Title = l.Subject
	}
	if p.Quiet {
		waited := "These alerts waited for the end of the quiet hours."
		if len(p.Rings)+p.More == 1 {
			waited = "This alert waited for the end of the quiet hours."
		}
		b.Lead = append(b.Lead, waited)
	}
	if p.Bounded {
		b.Lead = append(b.Lead, "This letter sums up what rang beyond the letters of an hour (at_most in the book).")
	}
	if p.More > 0 {
		b.Lead = append(b.Lead, fmt.Sprintf("%s more rang, too many to be kept apart; the journal has them all.", words.Count(p.More, "alert")))
	}
	l.write(&b)
	return l
}

// names returns the alerts that rang, each once, with what they rang for where there is one ring of it.
func names(rings []lookout.Ring) (list []string) {
	seen := map[string]int{}
	for i := range rings {
		seen[rings[i].Alert]++
		if seen[rings[i].Alert] == 1 {
			list = append(list, rings[i].Alert)
		}
	}
	for i, name := range list {
		if n := seen[name]; n > 1 {
			list[i] = fmt.Sprintf("%s (%d)", name, n)
		}
	}
	return list
}

func ringBlock(r *lookout.Ring, scheme *watch.Scheme, o Options) block {
	var alert watch.Alert
	for i := range scheme.Alerts {
		if scheme.Alerts[i].Name == r.Alert {
			alert = scheme.Alerts[i]
		}
	}
	what := words.Count(r.Count, "decision")
	query := url.Values{"from": {r.First.In(o.Zone).Format(time.RFC3339)}, "to": {r.Last.Add(time.Second).In(o.Zone).Format(time.RFC3339)}}
	switch alert.By {
	case watch.ByAccount:
		what += " on " + r.Of
		query.Set("account", r.Of)
	case watch.ByApp:
		what += " at " + r.Of
		query.Set("app", r.Of)
	case watch.ByAddress:
		what += " from an address that is not known"
		if r.Of != "" {
			what = words.Count(r.Count, "decision") + " from " + r.Of
			query.Set("ip", r.Of)
		}
	}
	if r.Count > 1 {
		if r.Accounts > 1 {
			what += fmt.Sprintf(", %s", words.Count(r.Accounts, "account"))
		}
		what += " within " + span(r.Last.Sub(r.First))
	}
	b := block{Title: r.Alert + ": " + what}
	if alert.About != "" {
		b.Text = append(b.Text, alert.About)
	}
	if r.Before > 0 {
		b.Text = append(b.Text, fmt.Sprintf("%s more of the same came since this alert rang for it last.", words.Count(r.Before, "decision")))
	}
	if alert.Say != "" {
		b.Text = append(b.Text, "To do: "+alert.Say)
	}
	b.Head = []string{"when", "account", "app", "from", "verdict", "because"}
	for i := range r.Latest {
		n := &r.Latest[i]
		from := "an unknown address"
		if n.IP.IsValid() {
			from = n.IP.String()
		}
		b.Rows = append(b.Rows, []string{n.At.In(o.Zone).Format("Mon 2006-01-02 15:04:05"), n.Account, n.App, from,
			strings.ReplaceAll(n.Verdict, "_", " "), n.Reason})
	}
	b.Look = []look{o.list("These decisions", query)}
	return b
}

// span is a length of time in words, rounded.
func span(d time.Duration) string {
	switch {
	case d < time.Minute:
		return words.Count(max(1, int(d/time.Second)), "second")
	case d < 2*time.Hour:
		return words.Count(int(d/time.Minute), "minute")
	case d < 48*time.Hour:
		return words.Count(int(d/time.Hour), "hour")
	}
	return words.Count(int(d/(24*time.Hour)), "day")
}

func foot(o Options) string {
	return "Times are of the zone " + o.Zone.String() + ". The section watch of the book says who gets this, and when."
}

// OfDigest words a digest: what a report on its stretch of time says.
func OfDigest(p *lookout.Post, r *report.Report, at time.Time, o Options) *Letter {
	d := &Digest{Name: p.Digest, From: p.From.UTC(), To: p.Until.UTC(), Happened: r.Happened, Wrong: r.Wrong, Do: r.Do,
		Granted: r.Verdicts.Grant, StepUps: r.Verdicts.StepUp, Blocked: r.Verdicts.Block, Troubles: r.Troubles, Next: r.Next}
	stretch := p.From.In(o.Zone).Format("Mon 2 January 15:04") + " to " + p.Until.In(o.Zone).Format("Mon 2 January 2006 15:04")
	all := r.Verdicts.All()
	subject := fmt.Sprintf("%s: %s, %s", p.Digest, words.Count(int(all), "attempt"), "nothing looks wrong")
	switch {
	case all == 0:
		subject = p.Digest + ": nothing was decided"
		d.Happened = "Nothing was decided from " + stretch + "."
		d.Wrong = "That may be as it should be, or the door was not asked."
		d.Do = "See whether people signed on meanwhile. If they did, their sign-ons do not come to the door."
	case len(r.Troubles) > 0:
		subject = fmt.Sprintf("%s: %s, %s to look at", p.Digest, words.Count(int(all), "attempt"), words.Count(len(r.Troubles), "thing"))
	default:
		d.Do = "Nothing needs doing today."
		if len(r.Next) > 0 {
			d.Do = "Nothing is urgent; what can be done is below."
		}
	}
	b := body{Title: subject, Lead: []string{d.Happened, d.Wrong, d.Do}, Foot: "From " + stretch + ". " + foot(o)}
	if all > 0 {
		b.Blocks = append(b.Blocks, daysBlock(r))
	}
	if len(r.Troubles) > 0 {
		for i := range r.Troubles[:min(len(r.Troubles), mostTroubles)] {
			t := &r.Troubles[i]
			b.Blocks = append(b.Blocks, block{Text: []string{fmt.Sprintf("%d. %s %s", i+1, t.Text, words.Capital(t.Do))},
				Look: []look{shown("What is behind it", t.Command, o)}})
		}
		b.Blocks[len(b.Blocks)-min(len(r.Troubles), mostTroubles)].Title = "What looks wrong"
	}
	for i, step := range r.Next[min(len(r.Next), min(len(r.Troubles), mostTroubles)):] {
		todo := block{Text: []string{step.Text}}
		if step.Command != "" {
			todo.Look = []look{shown("For it", step.Command, o)}
		}
		if i == 0 {
			todo.Title = "What else to do"
		}
		b.Blocks = append(b.Blocks, todo)
	}
	if o.Door != "" {
		query := url.Values{"from": {p.From.In(o.Zone).Format(time.RFC3339)}, "to": {p.Until.In(o.Zone).Format(time.RFC3339)}}
		b.Blocks = append(b.Blocks, block{Look: []look{{Name: "The whole report", Link: o.Door + "/watch?" + query.Encode()}}})
	}
	l := &Letter{At: at.UTC(), To: p.To, Subject: subject, Digest: d}
	l.write(&b)
	return l
}

// mostTroubles is how many troubles a digest tells. The report has them all.
const mostTroubles = 6

func daysBlock(r *report.Report) block {
	b := block{Title: "By day", Head: []string{"day", "granted", "asked for more", "blocked"}}
	for i := range r.Days {
		c := &r.Days[i].Counts
		b.Rows = append(b.Rows, []string{r.Days[i].Date, fmt.Sprint(c.Grant), fmt.Sprint(c.StepUp), fmt.Sprint(c.Block)})
	}
	return b
}

// shown is a command of a report, or its link where it has those.
func shown(name, command string, o Options) look {
	if strings.HasPrefix(command, "/") {
		return look{Name: name, Link: o.Door + command}
	}
	return look{Name: name, Command: command}
}

//go:embed letter.html
var page string

var asHTML = template.Must(template.New("letter").Parse(page))

// write writes the text and the HTML. What others named is shown as it is, and cannot act.
func (l *Letter) write(b *body) {
	l.Subject = oneLine(l.Subject)
	var text, html strings.Builder
	b.text(&text)
	if err := asHTML.Execute(&html, b); err != nil {
		panic(err) // the template is part of the program, and its data of this package
	}
	l.Text, l.HTML = gated(text.String()), gated(html.String())
}

// gated is a text whose characters all show.
func gated(text string) string {
	var gated bytes.Buffer
	_, _ = terminal.Gate(&gated).Write([]byte(text)) // memory takes all that is written
	return gated.String()
}

// longestSubject is how many characters of a subject are sent.
const longestSubject = 120

// oneLine makes a subject of a text in which others may have named things.
func oneLine(text string) string {
	text = gated(strings.Join(strings.Fields(text), " "))
	if utf8.RuneCountInString(text) > longestSubject {
		text = string([]rune(text)[:longestSubject-1]) + "…"
	}
	return text
}
