package main

import (
	"context"
	"fmt"
	"net"
	"net/http"
	"net/url"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"testing"
	"time"

	"github.com/chromedp/cdproto/cdp"
	"github.com/chromedp/cdproto/emulation"
	"github.com/chromedp/cdproto/webauthn"
	"github.com/chromedp/chromedp"
	"github.com/chromedp/chromedp/kb"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"github.com/briskwarden/briskwarden/attempt"
	"github.com/briskwarden/briskwarden/consent/acts"
	"github.com/briskwarden/briskwarden/decide"
	"github.com/briskwarden/briskwarden/internal/browsertest"
	"github.com/briskwarden/briskwarden/journal"
	"github.com/briskwarden/briskwarden/store"
)

const ingrid, jonas, marek, torstein = "ingrid@kestrelsound.example", "jonas@kestrelsound.example", "marek@gdansk-yard.example",
	"torstein@kestrelsound.example"

const ragna, solveig, astrid, emergency = "ragna@kestrelsound.example", "solveig@kestrelsound.example", "astrid@kestrelsound.example",
	"harbour-key@kestrelsound.example"

// begun starts a trial whose clock stands still but where it is put forward.
func begun(t testing.TB) *trial {
	listener, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	stands := time.Now()
	base := fmt.Sprint("http://localhost:", listener.Addr().(*net.TCPAddr).Port)
	x, err := newTrial(t.Context(), base, t.TempDir(), func() time.Time { return stands })
	require.NoError(t, err)
	server := &http.Server{Handler: x.http}
	ended := make(chan error, 1)
	go func() { ended <- server.Serve(listener) }()
	t.Cleanup(func() {
		require.NoError(t, server.Close())
		require.ErrorIs(t, <-ended, http.ErrServerClosed)
		require.NoError(t, x.door.Close())
	})
	return x
}

// visitor is somebody in a browser of her own.
type visitor struct {
	*testing.T
	trial *trial
	ctx   context.Context
}

// visit opens a window with no cookies in a browser, somewhere and on some device. It runs no scripts.
func visit(t *testing.T, browser context.Context, x *trial, place, device string) *visitor {
	ctx, end := chromedp.NewContext(browser, chromedp.WithNewBrowserContext())
	t.Cleanup(end)
	v := &visitor{t, x, ctx}
	v.do(calling(emulation.SetScriptExecutionDisabled, emulation.SetScriptExecutionDisabledParams{Value: true}))
	v.goTo(place, device)
	return v
}

// calling is a command of the browser as an action.
func calling[P, R any](command cdp.Command[P, R], params P) chromedp.Action[chromedp.Void] {
	return func(ctx context.Context, target *chromedp.Target) (chromedp.Void, error) {
		_, err := cdp.Call(ctx, target, command, params)
		return chromedp.Void{}, err
	}
}

func (v *visitor) do(actions ...chromedp.Action[chromedp.Void]) {
	v.Helper()
	require.NoError(v, chromedp.Do(v.ctx, actions...))
}

func (v *visitor) open(path string) *visitor {
	v.Helper()
	v.do(chromedp.Navigate(v.trial.base + path))
	return v
}

// fill types into a field.
func (v *visitor) fill(name, text string) *visitor {
	v.Helper()
	v.do(chromedp.SetValue(`[name="`+name+`"]:not([type=hidden])`, text))
	return v
}

// press presses a button or follows a link, by its words, and waits for the page that comes.
func (v *visitor) press(words string) *visitor {
	v.Helper()
	_, err := chromedp.Run(v.ctx, chromedp.Evaluate[int]("window.before = 1"))
	require.NoError(v, err)
	v.do(chromedp.Click(chromedp.Search(fmt.Sprintf(`//button[normalize-space()=%q] | //a[normalize-space()=%[1]q]`, words))))
	require.Eventually(v, func() bool {
		is, err := chromedp.Run(v.ctx, chromedp.Evaluate[bool]("window.before === undefined && document.readyState === 'complete'"))
		return err == nil && is
	}, patience, 10*time.Millisecond, "nothing came of %q", words)
	return v
}

// patience is how long a page may take.
const patience = 40 * time.Second

// text returns what the page says, "" while another one comes.
func (v *visitor) text() string {
	const script = "document.querySelector('main') ? document.querySelector('main').innerText : ''"
	text, err := chromedp.Run(v.ctx, chromedp.Evaluate[string](script))
	if err != nil {
		return ""
	}
	return text
}

// sees waits until the page says something.
func (v *visitor) sees(words ...string) *visitor {
	v.Helper()
	for _, w := range words {
		if !assert.Eventually(v, func() bool { return strings.Contains(v.text(), w) }, patience, 20*time.Millisecond, "%q", w) {
			require.Contains(v, v.text(), w)
		}
	}
	return v
}

// focused waits until the keyboard is where the page puts it.
func (v *visitor) focused(name string) *visitor {
	v.Helper()
	require.Eventually(v, func() bool {
		is, err := chromedp.Run(v.ctx, chromedp.Evaluate[string]("document.readyState === 'complete' && document.activeElement ? "+
			"document.activeElement.name : ''"))
		return err == nil && is == name
	}, patience, 20*time.Millisecond, name)
	return v
}

// goTo has the browser be somewhere, on some device.
func (v *visitor) goTo(place, device string) *visitor {
	v.Helper()
	return v.open("/around").fill("place", place).fill("device", device).press("Go there").sees("You are there now.")
}

// withAuthenticator gives the browser something that makes and holds keys, which needs scripts.
func (v *visitor) withAuthenticator(transport webauthn.AuthenticatorTransport) *visitor {
	v.Helper()
	v.do(calling(emulation.SetScriptExecutionDisabled, emulation.SetScriptExecutionDisabledParams{}),
		calling(webauthn.Enable, webauthn.EnableParams{}),
		calling(webauthn.AddVirtualAuthenticator, webauthn.AddVirtualAuthenticatorParams{
			Options: &webauthn.VirtualAuthenticatorOptions{Protocol: webauthn.AuthenticatorProtocolCtap2, Transport: transport,
				HasResidentKey: true, HasUserVerification: true, IsUserVerified: true, AutomaticPresenceSimulation: true}}))
	return v
}

// withKey gives the browser a key of an account, from the cabinet.
func (v *visitor) withKey(account string) *visitor {
	v.Helper()
	v.withAuthenticator(webauthn.AuthenticatorTransportUsb).open("/around")
	v.do(chromedp.SetValue("#owner", account))
	return v.press("Hand it out").sees("The key was handed out")
}

// password gives a name and a password at the page that asks for them.
func (v *visitor) password(account string) *visitor {
	v.Helper()
	return v.sees("Sign on").fill("account", account).fill("password", v.trial.people.Password(account)).press("Go on")
}

// onPhone answers the prompt that the phone of an account shows, in a window of its own.
func (v *visitor) onPhone(account, answer string, wrong int) {
	v.Helper()
	phone := &visitor{v.T, v.trial, nil}
	ctx, end := chromedp.NewContext(v.ctx, chromedp.WithNewBrowserContext())
	defer end()
	phone.ctx = ctx
	number := v.trial.phones.Waiting(account)[0].Number + wrong
	phone.open("/phone?"+url.Values{"account": {account}}.Encode()).fill("number", strconv.Itoa(number)).press(answer)
	phone.sees("Nobody asks anything just now.")
}

// verdicts are what the door decided about an account at an app, as the journal has it.
func (x *trial) verdicts(t *testing.T, account, app string) (list []decide.Verdict) {
	for e, err := range x.facts.Entries(t.Context(), journal.Filter{Kind: journal.Decision, Account: account}) {
		require.NoError(t, err)
		b, err := e.ReadBrief()
		require.NoError(t, err)
		if b.App == app {
			list = append(list, b.Verdict)
		}
	}
	return list
}

// shadows are what the door would have decided about an account were the shadow policies live, each once.
func (x *trial) shadows(t *testing.T, account string) (list []decide.Verdict) {
	for e, err := range x.facts.Entries(t.Context(), journal.Filter{Kind: journal.Decision, Account: account}) {
		require.NoError(t, err)
		b, err := e.ReadBrief()
		require.NoError(t, err)
		if len(list) == 0 || list[len(list)-1] != b.WithShadow {
			list = append(list, b.WithShadow)
		}
	}
	return list
}

// sessionOf is the session of somebody who is signed on.
func (x *trial) sessionOf(account string) string {
	x.mu.Lock()
	defer x.mu.Unlock()
	for _, s := range x.sessions {
		if s.account == account {
			return x.sessionID(s)
		}
	}
	return ""
}

// acts are the acts on consent, as the record has them.
func (x *trial) acts(t *testing.T) (kinds []acts.Kind) {
	judge, err := x.judges()
	require.NoError(t, err)
	record, err := acts.New(judge, x.facts, store.TerminalLog).Acts(t.Context(), journal.Verification{})
	require.NoError(t, err)
	for i := range record.Acts {
		kinds = append(kinds, record.Acts[i].Kind)
	}
	return kinds
}

// last is the last verdict of an account at an app.
func (v *visitor) last(account, app string) decide.Verdict {
	v.Helper()
	list := v.trial.verdicts(v.T, account, app)
	require.NotEmpty(v, list)
	return list[len(list)-1]
}

func TestStories(t *testing.T) {
	for name, story := range map[string]func(t *testing.T, browser context.Context, x *trial){
		"from the pier a password will do": func(t *testing.T, browser context.Context, x *trial) {
			v := visit(t, browser, x, "pier", "laptop-ingrid").open("/apps/crew-roster/").password(ingrid)
			v.sees("Tomorrow you sail")
			require.Equal(t, decide.Grant, v.last(ingrid, "crew-roster"))
		},
		"by keyboard alone": func(t *testing.T, browser context.Context, x *trial) {
			v := visit(t, browser, x, "home", "").open("/apps/crew-roster/").sees("Sign on")
			v.focused("account").do(chromedp.KeyEvent(ingrid + kb.Tab + x.people.Password(ingrid) + kb.Enter))
			v.sees("Your phone will ask").focused("method").do(chromedp.KeyEvent(kb.Enter))
			v.sees("Type this number there")
			v.onPhone(ingrid, "Yes, it is me", 0)
			v.sees("Tomorrow you sail")
			require.Equal(t, decide.Grant, v.last(ingrid, "crew-roster"))
		},
		"from home the phone is asked": func(t *testing.T, browser context.Context, x *trial) {
			v := visit(t, browser, x, "home", "").open("/apps/crew-roster/").password(ingrid)
			v.sees("One more thing").press("Ask my phone").sees("Type this number there")
			require.Equal(t, decide.StepUp, v.last(ingrid, "crew-roster"))
			v.onPhone(ingrid, "Yes, it is me", 0)
			v.sees("Tomorrow you sail")
			require.Equal(t, decide.Grant, v.last(ingrid, "crew-roster"))
		},
		"the wrong number is a no": func(t *testing.T, browser context.Context, x *trial) {
			v := visit(t, browser, x, "home", "").open("/apps/crew-roster/").password(ingrid)
			v.press("Ask my phone").sees("Type this number there")
			v.onPhone(ingrid, "Yes, it is me", 1)
			v.sees("One more thing")
			require.NotContains(t, x.verdicts(t, ingrid, "crew-roster"), decide.Grant)
		},
		"who says no on the phone is not let in": func(t *testing.T, browser context.Context, x *trial) {
			v := visit(t, browser, x, "home", "").open("/apps/crew-roster/").password(ingrid)
			v.press("Ask my phone").sees("Type this number there")
			v.onPhone(ingrid, "No, turn it away", 0)
			v.sees("One more thing")
			require.NotContains(t, x.verdicts(t, ingrid, "crew-roster"), decide.Grant)
		},
		"from abroad the till is shut, and it says why": func(t *testing.T, browser context.Context, x *trial) {
			v := visit(t, browser, x, "abroad", "laptop-ingrid").open("/apps/card-till/").password(ingrid)
			v.sees("You cannot sign on now", "The till opens in home waters only.", "call the shore office")
			require.Equal(t, decide.Block, v.last(ingrid, "card-till"))
			require.NotContains(t, v.text(), "Enrol another method", "which would not help")
			entry := v.text()[strings.LastIndex(v.text(), ": ")+2:]
			_, err := x.facts.Entry(t.Context(), strings.TrimSpace(entry))
			require.NoError(t, err, "the number that she gives names the decision")
		},
		"firewall off, stopped, on, reported, in": func(t *testing.T, browser context.Context, x *trial) {
			x.agents.set("laptop-ingrid", "firewall", attempt.BoolScalar(false))
			require.NoError(t, x.agents.report("laptop-ingrid", x.clock.Now()))
			v := visit(t, browser, x, "pier", "laptop-ingrid").open("/apps/card-till/").password(ingrid)
			v.sees("You cannot sign on now", "Turn the firewall on.")
			v.open("/agent").press("Turn the firewall on").press("Report now").sees("The door has the report.")
			v.open("/sign-on").sees("The till is open.") // where she tried before
			require.Equal(t, decide.Grant, v.last(ingrid, "card-till"))
		},
		"a device that reports by itself stays fit": func(t *testing.T, browser context.Context, x *trial) {
			v := visit(t, browser, x, "pier", "laptop-ingrid").open("/agent").press("Have it report every hour").sees("every hour")
			x.clock.Forward(20 * time.Hour)
			require.NoError(t, x.agents.reportDue(x.clock.Now()))
			x.clock.Forward(10 * time.Hour) // what it reported first is too old by now
			v.open("/apps/card-till/").password(ingrid).sees("The till is open.")
			v.open("/agent").press("Have it report no more").sees("only when it is told to")
			x.clock.Forward(20 * time.Hour)
			require.NoError(t, x.agents.reportDue(x.clock.Now()))
			visit(t, browser, x, "pier", "laptop-ingrid").open("/apps/card-till/").password(ingrid).sees("Let the device report its state")
			require.Equal(t, decide.StepUp, v.last(ingrid, "card-till"))
		},
		"a device report closes the till before one's eyes": func(t *testing.T, browser context.Context, x *trial) {
			v := visit(t, browser, x, "pier", "laptop-ingrid").open("/apps/card-till/").password(ingrid).sees("The till is open.")
			x.agents.set("laptop-ingrid", "firewall", attempt.BoolScalar(false))
			require.NoError(t, x.agents.report("laptop-ingrid", x.clock.Now()))
			v.sees("card-till is closed to you") // the page looks again by itself
			ends := func() (n int) {
				for e, err := range x.facts.Entries(t.Context(), journal.Filter{Kind: journal.SessionEnd, Account: ingrid}) {
					require.NoError(t, err)
					require.NotEmpty(t, e.ID)
					n++
				}
				return n
			}
			require.Eventually(t, func() bool { return ends() == 1 }, patience, 20*time.Millisecond)
		},
		"a second app asks nothing, and one that trusts no other app's proof does": func(t *testing.T, browser context.Context, x *trial) {
			v := visit(t, browser, x, "pier", "laptop-ingrid").open("/apps/crew-roster/").password(ingrid).sees("Tomorrow you sail")
			v.open("/apps/mail/").sees("No new mail.")
			v.open("/apps/card-till/").sees("One more thing", "Your password")
			v.fill("typed", x.people.Password(ingrid)).press("Go on").sees("The till is open.")
			require.Equal(t, []decide.Verdict{decide.StepUp, decide.Grant, decide.Grant}, x.verdicts(t, ingrid, "card-till"))
		},
		"an impossible journey": func(t *testing.T, browser context.Context, x *trial) {
			v := visit(t, browser, x, "home", "laptop-ingrid").open("/apps/card-till/").password(ingrid).press("Ask my phone").sees("Type this")
			v.onPhone(ingrid, "Yes, it is me", 0)
			v.sees("The till is open.")
			v = visit(t, browser, x, "gothenburg", "laptop-ingrid").open("/apps/card-till/").password(ingrid)
			v.sees("Something about this sign-in is odd; call the shore office.")
			require.Equal(t, decide.Block, v.last(ingrid, "card-till"))
		},
		"from the shipyard with a code, and not when the check fails": func(t *testing.T, browser context.Context, x *trial) {
			v := visit(t, browser, x, "home", "").open("/apps/crew-roster/").password(marek)
			v.sees("Sign on from the yard or from one of our piers.")
			v.goTo("yard", "").open("/apps/crew-roster/").password(marek).sees("The code that it shows")
			v.fill("typed", "000000").press("Go on").sees("That did not fit.")
			v.fill("typed", x.people.Code(marek, x.clock.Now())).press("Go on").sees("Tomorrow you sail")
			v.open("/around").do(chromedp.Click(`[name="passes"]`))
			v.press("Set it").sees("The shipyard's check was set.")
			v = visit(t, browser, x, "yard", "").open("/apps/crew-roster/").password(marek)
			v.sees("The check shipyard-verifier failed; ask the help desk.")
			require.NotContains(t, v.text(), "Sign in where", "he can be asked here, and it would not help")
			require.Equal(t, decide.Block, v.last(marek, "crew-roster"))
		},
		"a device that is remembered is not asked again": func(t *testing.T, browser context.Context, x *trial) {
			v := visit(t, browser, x, "home", "").open("/apps/mail/").password(torstein).sees("The code that it shows")
			v.do(chromedp.Click(`[name="remember"]`))
			v.fill("typed", x.people.Code(torstein, x.clock.Now())).press("Go on").sees("No new mail.")
			v.press("Sign off").sees("Nobody is signed on in this browser.")
			x.clock.Forward(24 * time.Hour)
			v.open("/apps/mail/").password(torstein).sees("No new mail.")
			require.Equal(t, decide.Grant, v.last(torstein, "mail"))
		},
		"a leaked password is changed before anything else": func(t *testing.T, browser context.Context, x *trial) {
			v := visit(t, browser, x, "pier", "laptop-ingrid").open("/apps/mail/").password(ingrid).sees("No new mail.")
			v.open("/around").fill("account", ingrid).press("Tell of it").sees("The leak feed told the door.")
			x.clock.Forward(time.Minute)
			v.open("/apps/mail/").sees("Sign on").password(ingrid).sees("Your password was found in a leak.")
			v.press("Ask my phone").sees("Type this").onPhone(ingrid, "Yes, it is me", 0)
			v.sees("Your password was found in a leak.").press("Change your password").sees("Another password")
			v.fill("password", x.people.Password(ingrid)).press("Change it")
			require.Eventually(t, func() bool {
				text, err := chromedp.Run(v.ctx, chromedp.Evaluate[string]("document.body.innerText"))
				return err == nil && strings.Contains(text, "That is the password of now")
			}, patience, 20*time.Millisecond)
			v.open("/account?do=change-password").sees("Another password")
			v.fill("password", "kittiwake-7").press("Change it").sees("Your password was changed.")
			require.True(t, x.people.HasPassword(ingrid, "kittiwake-7"))
			require.Equal(t, decide.StepUp, v.last(ingrid, "mail"))
			v.open("/apps/mail/").sees("No new mail.")
			require.Equal(t, decide.Grant, v.last(ingrid, "mail"))
		},
		"somebody enrols before the day, and is reminded until then": func(t *testing.T, browser context.Context, x *trial) {
			v := visit(t, browser, x, "home", "").open("/apps/crew-roster/").password(jonas)
			v.sees("You are yet to enrol another method", "Days left: 11").press("Go on for now").sees("Tomorrow you sail")
			v.goTo("pier", "").open("/account").press("Enrol another method").sees("Which?")
			v.fill("method", "push").press("Enrol it").sees("The method was enrolled.")
			v = visit(t, browser, x, "home", "").open("/apps/crew-roster/").password(jonas).press("Ask my phone").sees("Type this")
			v.onPhone(jonas, "Yes, it is me", 0)
			v.sees("Tomorrow you sail")
			require.Equal(t, []decide.Verdict{decide.Grant}, x.verdicts(t, jonas, "account-page"))
		},
		"after the day nothing but enrolling is left": func(t *testing.T, browser context.Context, x *trial) {
			x.clock.Forward(30 * 24 * time.Hour)
			v := visit(t, browser, x, "home", "").open("/apps/crew-roster/").password(jonas).sees("You cannot sign on now")
			require.NotContains(t, x.verdicts(t, jonas, "crew-roster"), decide.Grant)
			v.press("Enrol another method").sees("Which?").fill("method", "push").press("Enrol it").sees("The method was enrolled.")
			require.Equal(t, decide.Grant, v.last(jonas, "account-page"))
			v.open("/apps/crew-roster/").sees("One more thing").press("Ask my phone").sees("Type this")
			v.onPhone(jonas, "Yes, it is me", 0)
			v.sees("Tomorrow you sail")
		},
		"an app for codes is enrolled once it shows a right one": func(t *testing.T, browser context.Context, x *trial) {
			v := visit(t, browser, x, "pier", "").open("/account/begin?action=enrol").password(jonas).sees("Which?")
			v.fill("method", "otp-app").press("Enrol it").sees("Type this key into an app for codes", x.people.Seed(jonas))
			v.fill("typed", "12345").press("Enrol it").sees("That did not fit.")
			require.NotContains(t, x.methodsOf(jonas), "otp-app")
			v.fill("typed", x.people.Code(jonas, x.clock.Now())).press("Enrol it").sees("The method was enrolled.")
			x.clock.Forward(time.Hour)
			v = visit(t, browser, x, "home", "").open("/apps/crew-roster/").password(jonas).sees("The app for codes")
			v.fill("typed", x.people.Code(jonas, x.clock.Now())).press("Go on").sees("Tomorrow you sail")
			require.Equal(t, []decide.Verdict{decide.StepUp, decide.Grant, decide.Grant}, x.verdicts(t, jonas, "crew-roster"))
		},
		"codes on paper are shown once": func(t *testing.T, browser context.Context, x *trial) {
			before := x.people.RecoveryCodes(jonas)
			v := visit(t, browser, x, "pier", "").open("/account/begin?action=enrol").password(jonas).sees("Which?")
			v.fill("method", "recovery-code").press("Enrol it").sees("Write these codes down")
			v.sees(x.people.RecoveryCodes(jonas)...)
			require.NotEqual(t, before, x.people.RecoveryCodes(jonas))
			require.NotContains(t, v.open("/account").text(), x.people.RecoveryCodes(jonas)[0])
			require.Equal(t, decide.Grant, v.last(jonas, "account-page"))
		},
		"a passkey is enrolled, and is all that is asked for": func(t *testing.T, browser context.Context, x *trial) {
			v := visit(t, browser, x, "pier", "").withAuthenticator(webauthn.AuthenticatorTransportInternal)
			v.open("/account/begin?action=enrol").password(jonas).sees("A key or a passkey").press("Make one").sees("The method was enrolled.")
			require.Contains(t, x.methodsOf(jonas), "passkey")
			v.press("Your apps").press("Sign off").goTo("home", "").open("/apps/crew-roster/").sees("Sign on").press("Use a key")
			v.sees("Tomorrow you sail")
			require.Equal(t, decide.Grant, v.last(jonas, "crew-roster"))
		},
		"the phone is out of reach, so a text message will do": func(t *testing.T, browser context.Context, x *trial) {
			require.NoError(t, x.enrol(ingrid, "sms-code"))
			v := visit(t, browser, x, "home", "").open("/apps/crew-roster/").password(ingrid).sees("Your phone")
			require.NotContains(t, v.text(), "a text message", "it is there for when the phone does not answer")
			v.press("Ask my phone").sees("Type this").press("My phone shows nothing").sees("A text message")
			v.press("Send a code").fill("typed", x.phones.Texts(ingrid)[0].Code).press("Go on").sees("Tomorrow you sail")
			require.Equal(t, decide.Grant, v.last(ingrid, "crew-roster"))
		},
		"the emergency account gets in from anywhere with its key": func(t *testing.T, browser context.Context, x *trial) {
			v := visit(t, browser, x, "hidden", "").withKey(emergency).open("/apps/berth-planner/").sees("Sign on").press("Use a key")
			v.sees("Berth 3 is free")
			require.Equal(t, []decide.Verdict{decide.Grant, decide.Grant}, x.verdicts(t, emergency, "berth-planner"))
		},
		"with every policy against it the emergency account gets in": func(t *testing.T, browser context.Context, x *trial) {
			// What must hold, and the drills, would keep such a book out.
			require.NoError(t, os.Remove(filepath.Join(x.book, "guarantees.yaml")))
			require.NoError(t, os.Remove(filepath.Join(x.book, "drills.yaml")))
			const lockdown = "briskwarden: 1\npolicies:\n  - {name: lockdown, owner: shore-it, stage: live, who: anyone, apps: every, " +
				"rules: [{name: all, then: block, say: All is shut.}]}\n"
			require.NoError(t, os.WriteFile(filepath.Join(x.book, "lockdown.yaml"), []byte(lockdown), 0o600))
			require.NoError(t, x.readAgain(false))
			v := visit(t, browser, x, "pier", "laptop-ingrid").open("/apps/mail/").password(ingrid).sees("All is shut.")
			require.Equal(t, decide.Block, v.last(ingrid, "mail"))
			v = visit(t, browser, x, "lost", "").withKey(emergency).open("/apps/mail/").sees("Sign on").press("Use a key").sees("No new mail.")
			require.Equal(t, decide.Grant, v.last(emergency, "mail"))
		},
		"a document is accepted once": func(t *testing.T, browser context.Context, x *trial) {
			v := visit(t, browser, x, "home", "laptop-einar").open("/apps/berth-planner/").password(torstein).sees("The code that it shows")
			v.fill("typed", x.people.Code(torstein, x.clock.Now())).press("Go on").sees("Please read", "crew-handbook, version 3")
			v.press("I have read it and accept it").sees("Berth 3 is free")
			require.Equal(t, decide.Grant, v.last(torstein, "berth-planner"))
			x.clock.Forward(time.Hour)
			v = visit(t, browser, x, "home", "laptop-einar").open("/apps/berth-planner/").password(torstein).sees("The code that it shows")
			v.fill("typed", x.people.Code(torstein, x.clock.Now())).press("Go on").sees("Berth 3 is free")
		},
		"who looks after the systems needs a key, and the right one": func(t *testing.T, browser context.Context, x *trial) {
			v := visit(t, browser, x, "home", "").withKey(solveig).open("/apps/berth-planner/").password(ragna)
			v.sees("A key or a passkey").press("Use a key").sees("You cannot sign on now") // another's key makes the book uneasy
			require.Equal(t, []decide.Verdict{decide.StepUp, decide.Block}, x.verdicts(t, ragna, "berth-planner"))
			v = visit(t, browser, x, "home", "").withKey(ragna).open("/apps/berth-planner/").password(ragna).press("Use a key")
			v.sees("Berth 3 is free")
		},
		"a shadow is seen in the journal alone, until it is live": func(t *testing.T, browser context.Context, x *trial) {
			v := visit(t, browser, x, "home", ownPhone).open("/apps/board-papers/").password(astrid).press("Ask my phone").sees("Type this")
			v.onPhone(astrid, "Yes, it is me", 0)
			v.sees("a new ferry, at last")
			require.Equal(t, []decide.Verdict{decide.Block}, x.shadows(t, astrid))
			v.open("/around").press("Put board-papers in force").sees("The book was read again, and is in force.", "board-papers is live")
			v.open("/apps/board-papers/").sees("board-papers is closed to you", "Board papers are read on a computer.")
			require.Equal(t, decide.Block, v.last(astrid, "board-papers"))
			v = visit(t, browser, x, "home", "").open("/apps/board-papers/").password(astrid).press("Ask my phone").sees("Type this")
			v.onPhone(astrid, "Yes, it is me", 0)
			v.sees("Enrol another method") // on a computer it takes a key, which she has not
			require.Equal(t, decide.StepUp, v.last(astrid, "board-papers"))
		},
		"a harmless program is let in, and one that is barred is not": func(t *testing.T, browser context.Context, x *trial) {
			v := visit(t, browser, x, "pier", "laptop-ingrid").open("/apps/mail/").password(ingrid).sees("No new mail.")
			v.open("/").press("tide-table").sees("whom we have vetted", "Reads what everybody may know.").press("Let it in")
			v.sees("You have let it in.").open("/programs/prize-wheel").sees("Nobody in particular", "This program is let in by nobody.")
			require.NotContains(t, v.text(), "Let it in")
			require.Contains(t, x.acts(t), acts.Granted)
		},
		"what a program wants is asked for, refused, approved, and barred": func(t *testing.T, browser context.Context, x *trial) {
			asks := visit(t, browser, x, "pier", "laptop-ingrid").open("/apps/mail/").password(ingrid).sees("No new mail.")
			asks.open("/programs/voyage-log").sees("Reads or writes what is others'.", "A reviewer has to look at this")
			asks.fill("because", "To sum up the log.").press("Ask for it").sees("Your request waits for a reviewer: number 1.")
			asks.open("/review").sees("You are no reviewer of the book.")
			answers := visit(t, browser, x, "home", "").withKey(solveig).open("/apps/mail/").sees("Sign on").press("Use a key").sees("No new mail.")
			answers.open("/review").sees("Voyage Log Summariser", ingrid+": To sum up the log.")
			answers.fill("because", "Every mailbox is too much.").press("Refuse").sees("Refused.", "Nothing waits.")
			asks.open("/programs/voyage-log").fill("because", "It is a long log.").press("Ask for it").sees("Your request waits")
			answers.open("/review").fill("because", "For a week.").press("Approve for the one who asked").sees("Approved.")
			asks.open("/programs/voyage-log").sees("Let it in").press("Let it in").sees("You have let it in.")
			require.Equal(t, []acts.Kind{acts.Asked, acts.Refused, acts.Asked, acts.Approved, acts.Granted}, x.acts(t))
			asks.open("/programs/crew-swap").fill("because", "For my shifts.").press("Ask for it").sees("Your request waits")
			answers.open("/review").fill("because", "It changed hands.").press("Bar the program").sees("The program is barred")
			asks.open("/programs/crew-swap")
			require.NotContains(t, asks.text(), "Ask for it", "a barred program stops at once")
		},
		"a new hand starts, enrols on the first day, gets in, and leaves": func(t *testing.T, browser context.Context, x *trial) {
			const hand = "sigrid@kestrelsound.example"
			v := visit(t, browser, x, "pier", "").open("/around")
			v.do(chromedp.SetValue("#hand", hand))
			v.press("Starts today").sees("The HR feed told the door who starts.", hand+" started")
			v.open("/account/begin?action=enrol").password(hand).sees("A recovery code")
			v.fill("typed", x.people.RecoveryCodes(hand)[0]).press("Go on").sees("Which?").fill("method", "push").press("Enrol it")
			v.sees("The method was enrolled.").open("/apps/crew-roster/").sees("Tomorrow you sail")
			v = visit(t, browser, x, "home", "").open("/apps/crew-roster/").password(hand).press("Ask my phone").sees("Type this")
			v.onPhone(hand, "Yes, it is me", 0)
			v.sees("Tomorrow you sail")
			require.NoError(t, x.leaves(hand))
			v.sees("crew-roster is closed to you") // the page looks again by itself
			require.Equal(t, decide.Block, v.last(hand, "crew-roster"))
		},
		"a code on paper counts once": func(t *testing.T, browser context.Context, x *trial) {
			const hand = "sigrid@kestrelsound.example"
			require.NoError(t, x.starts(hand))
			code := x.people.RecoveryCodes(hand)[0]
			v := visit(t, browser, x, "home", "").open("/apps/mail/").password(hand).sees("A recovery code")
			v.fill("typed", code).press("Go on").sees("No new mail.")
			visit(t, browser, x, "home", "").open("/apps/mail/").password(hand).fill("typed", code).press("Go on").sees("That did not fit.")
			require.Equal(t, decide.StepUp, v.last(hand, "mail"))
			require.NotContains(t, x.people.RecoveryCodes(hand), code)
		},
		"an app behind nginx asks as the door says, and another asks no more": func(t *testing.T, browser context.Context, x *trial) {
			if _, err := exec.LookPath("nginx"); err != nil && os.Getenv("CI") == "" {
				t.Skip("there is no nginx")
			}
			ctx, stop := context.WithCancel(t.Context())
			nginx, err := x.startNginx(ctx, t.TempDir())
			require.NoError(t, err)
			require.NotNil(t, nginx, "scripts/test installs nginx in CI")
			defer func() { stop(); _ = nginx.cmd.Wait() }() // an interrupt is how it ends
			x.nginx = nginx
			v := visit(t, browser, x, "home", "").open("/")
			opens := func() bool { return chromedp.Do(v.ctx, chromedp.Navigate(nginx.url+"/apps/mail/")) == nil }
			require.Eventually(t, opens, patience, time.Second/5)
			v.password(ingrid).press("Ask my phone").sees("Type this")
			v.onPhone(ingrid, "Yes, it is me", 0)
			v.sees("mail, behind nginx", ingrid, "No new mail.")
			require.NotContains(t, v.open("/").sees("The same behind nginx").text(), "berth-planner", "she does not have it")
			v.do(chromedp.Navigate(nginx.url + "/apps/crew-roster/"))
			v.sees("crew-roster, behind nginx", "Tomorrow you sail")
			v.do(chromedp.Navigate(nginx.url + "/apps/mail/"))
			ended, err := x.door.EndSession(x.sessionOf(ingrid), "she called")
			require.True(t, err == nil && ended, err)
			v.sees("Sign on again", "to open mail")
			require.Equal(t, decide.Block, v.last(ingrid, "mail"))
			w := visit(t, browser, x, "pier", "laptop-ingrid").open("/")
			w.do(chromedp.Navigate(nginx.url + "/apps/mail/"))
			w.password(ingrid).sees("mail, behind nginx").press("Sign off").sees("You are signed off.") // by forms alone
			w.do(chromedp.Navigate(nginx.url + "/apps/mail/"))
			w.password(ingrid).sees("mail, behind nginx").press("Your apps").sees("Open to you now")
			status, _, _ := newClient(t, x).get("/behind/mail")
			require.Equal(t, http.StatusNotFound, status, "nobody but nginx says who was let in")
		},
		"a forgotten password": func(t *testing.T, browser context.Context, x *trial) {
			v := visit(t, browser, x, "home", "").open("/apps/mail/").press("Forgot your password?").sees("A forgotten password")
			v.fill("account", ingrid).press("Ask my phone").sees("Type this number there")
			v.onPhone(ingrid, "Yes, it is me", 0)
			v.sees("Another password").fill("password", "lamp-tide-on-the-keel").press("Change it").sees("Your password was changed.")
			require.Equal(t, "lamp-tide-on-the-keel", x.people.Password(ingrid))
			visit(t, browser, x, "home", "").open("/apps/mail/").password(ingrid).sees("One more thing")
		},
		"who forgot a password of another's is not let in": func(t *testing.T, browser context.Context, x *trial) {
			v := visit(t, browser, x, "home", "").open("/account/begin?action=recover").sees("A forgotten password")
			v.fill("account", "nobody@kestrelsound.example").press("Ask my phone").sees("Type this number there")
			v.press("My phone shows nothing").sees("A forgotten password", "The phone did not answer.")
			require.Empty(t, x.phones.Waiting("nobody@kestrelsound.example"))
			v.fill("account", ingrid).fill("typed", x.people.Code(ingrid, x.clock.Now())).press("It is of my app").sees("That did not fit.")
			for range 2 * mostPrompts { // and nobody's phone rings for ever
				visit(t, browser, x, "home", "").open("/account/begin?action=recover").fill("account", ingrid).press("Ask my phone")
			}
			require.LessOrEqual(t, len(x.phones.Waiting(ingrid)), mostPrompts)
			require.Empty(t, x.verdicts(t, ingrid, accountPage)[1:])
		},
		"what came of the phone is said, and it says from where": func(t *testing.T, browser context.Context, x *trial) {
			v := visit(t, browser, x, "home", "").open("/apps/mail/").password(ingrid).press("Ask my phone").sees("Type this number there")
			require.Equal(t, "At home, in Bergen. On a device of one's own, which nobody manages.", x.phones.Waiting(ingrid)[0].From)
			v.onPhone(ingrid, "No, turn it away", 0)
			v.sees("On the phone somebody said no, or typed another number.")
			v.do(chromedp.Click(`[name="remember"]`))
			v.press("Ask my phone").sees("Type this number there")
			v.onPhone(ingrid, "Yes, it is me", 0)
			v.sees("No new mail.").press("Sign off").sees("You are signed off.")
			v.open("/apps/mail/").password(ingrid).sees("No new mail.") // the device stands for the phone
		},
		"on a device of one's own nothing is asked for that it cannot have": func(t *testing.T, browser context.Context, x *trial) {
			v := visit(t, browser, x, "pier", "").withKey(ragna).open("/apps/mail/").press("Use a key").sees("No new mail.")
			require.NotContains(t, x.verdicts(t, ragna, "mail"), decide.StepUp, "her password is not asked for besides")
			v.open("/apps/mail/").sees("No new mail.")
		},
		"an open app closes by itself, and the keyboard stays where it is": func(t *testing.T, browser context.Context, x *trial) {
			v := visit(t, browser, x, "pier", "laptop-ingrid").withAuthenticator(webauthn.AuthenticatorTransportUsb)
			v.open("/apps/card-till/").password(ingrid).sees("The till is open.")
			_, err := chromedp.Run(v.ctx, chromedp.Evaluate[int]("document.querySelector('button').focus(); window.before = 1"))
			require.NoError(t, err)
			time.Sleep(3 * time.Second / 2) // it has looked by then
			still, err := chromedp.Run(v.ctx, chromedp.Evaluate[bool]("window.before === 1 && document.activeElement.tagName === 'BUTTON'"))
			require.NoError(t, err)
			require.True(t, still, "it was not loaded again")
			x.agents.set("laptop-ingrid", "firewall", attempt.BoolScalar(false))
			require.NoError(t, x.agents.report("laptop-ingrid", x.clock.Now()))
			v.sees("You cannot sign on now", "Turn the firewall on.")
		},
		"what others wrote turns no text round": func(t *testing.T, browser context.Context, x *trial) {
			v := visit(t, browser, x, "pier", "laptop-ingrid").open("/apps/mail/").password(ingrid).sees("No new mail.")
			v.open("/programs/voyage-log").fill("because", "for \u202egnp.evil").press("Ask for it").sees("waits for a reviewer")
			v.open("/programs/voyage-log").sees("Your request waits for a reviewer: number 1.") // it is not asked for twice
			r := visit(t, browser, x, "pier", "").withKey(ragna).open("/apps/mail/").press("Use a key").sees("No new mail.")
			r.open("/review").sees(`for \u202egnp.evil`)
		},
		"the management of devices finds a laptop unfit": func(t *testing.T, browser context.Context, x *trial) {
			v := visit(t, browser, x, "pier", "laptop-ingrid").open("/apps/card-till/").password(ingrid).sees("The till is open.")
			require.NoError(t, x.finds("laptop-ingrid", false))
			v.sees("One more thing").fill("typed", x.people.Password(ingrid)).press("Go on").sees("You cannot sign on now", "Turn the firewall on.")
			require.NotEqual(t, decide.Grant, v.last(ingrid, "card-till"))
		},
		"an unknown account sees what a known one sees": func(t *testing.T, browser context.Context, x *trial) {
			var shown []string
			for _, name := range []string{ingrid, "nobody@kestrelsound.example", "former@kestrelsound.example"} {
				v := visit(t, browser, x, "abroad", "").open("/apps/card-till/").sees("Sign on")
				v.fill("account", name).fill("password", "not it").press("Go on").sees("That did not work.")
				shown = append(shown, v.text())
			}
			require.Equal(t, shown[0], shown[1])
			require.Equal(t, shown[0], shown[2])
			require.NotContains(t, x.verdicts(t, ingrid, "card-till"), decide.Grant)
		},
		"the launcher shows what she has": func(t *testing.T, browser context.Context, x *trial) {
			v := visit(t, browser, x, "pier", "laptop-ingrid").open("/apps/crew-roster/").password(ingrid).sees("Tomorrow you sail")
			v.open("/").sees("Open to you now", "crew-roster", "mail", "These ask for more", "card-till")
			require.NotContains(t, v.text(), "berth-planner", "she does not have it")
			v.goTo("abroad", "laptop-ingrid").open("/").sees("Closed to you here and now", "The till opens in home waters only.")
			require.Empty(t, x.verdicts(t, ingrid, "card-till"), "looking leaves no trace")
		},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			browser := browsertest.Open(t)
			require.NoError(t, chromedp.Do(browser))
			story(t, browser, begun(t))
		})
	}
}
