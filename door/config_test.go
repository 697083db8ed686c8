package door_test

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"github.com/briskwarden/briskwarden/door"
)

func TestReadConfig(t *testing.T) {
	digest := `"sha256:` + strings.Repeat("ab", 32) + `"`
	caller := "callers: [{name: gateway, token: " + digest + ", may: decide}]\n"
	for name, c := range map[string]struct{ text, want string }{
		"whole": {"door: 1\n" + caller + `
listen: 0.0.0.0:443
certificate: door.crt
key: door.key
client_ca: ca.crt
trusted_proxies: [127.0.0.1, 10.0.0.0/8, "2001:db8::/32"]
store: {postgres: "postgres://door@db.example/door", history: complete, cached: 1000}
journal: {mode: best_effort, key: j.key, checkpoint: j.checkpoint, every: 1m}
limits: {tolerance: 1m, read: 5s, answer: 1s, batch: 10, results: 20}
tokens: [{issuer: "https://idp.example", audience: door, keys: "https://idp.example/jwks", account: upn, cookie: s,
	domains: kestrelsound.example,
  own_clients: [a],
  means: [{amr: otp, method: otp-app}]}]
events: [{issuer: "https://feed.example", audience: door, keys: feed.json}]
tell: {issuer: "https://door.example", key: t.jwk, receivers: [{name: idp, url: "https://idp.example/events", audience: idp}]}
`, ""},
		"nothing but what it is": {"door: 1\n", ""},
		"not what it is":         {caller, "c.yaml:1:1: the file lacks `door: 1`"},
		"another version":        {"door: 2\n", "version 1, not \"2\""},
		"a key that is none": {"door: 1\nlissten: 127.0.0.1:1\n",
			`c.yaml:2:1: a configuration of the door has no key "lissten"; did you mean "listen"?`},
		"a key deep in it":    {"door: 1\nstore: {files: x}\n", `c.yaml:2:9: a store config has no key "files"; did you mean "file"?`},
		"a word that is none": {"door: 1\njournal: {mode: sometimes}\n", "c.yaml:2:17: \"sometimes\" is not required, best_effort or off"},
		"a right that is none": {"door: 1\ncallers: [{name: a, token: " + digest + ", may: [decide, everything]}]\n",
			`"everything" is not a right`},
		"no address":              {"door: 1\nlisten: here\n", "listen: \"here\" is no address with a port"},
		"no port":                 {"door: 1\nlisten: 127.0.0.1:99999\n", "listen: \"127.0.0.1:99999\" is no address with a port"},
		"beyond loopback, no TLS": {"door: 1\nlisten: 0.0.0.0:7443\n", "give a certificate and key, or say behind_proxy: true"},
		"behind a proxy":          {"door: 1\nlisten: 0.0.0.0:7443\nbehind_proxy: true\n", ""},
		"half a certificate":      {"door: 1\ncertificate: a.crt\n", "certificate and key stand together"},
		"two stores":              {"door: 1\nstore: {file: a, postgres: b}\n", "one of them only"},
		"a token in plain": {"door: 1\ncallers: [{name: a, token: bw_123, may: decide}]\n",
			"the token of a is no digest such as sha256:"},
		"a caller twice": {"door: 1\n" + strings.Replace(caller, "}]", "}, {name: gateway, token: sha256:00, may: look}]", 1),
			`"gateway" stands twice`},
		"a token twice": {"door: 1\n" + strings.Replace(caller, "}]", "}, {name: b, token: "+digest+", may: look}]", 1),
			"gateway and b have the same token"},
		"neither token nor cert":   {"door: 1\ncallers: [{name: a, may: decide}]\n", "has a token or a certificate"},
		"a certificate without CA": {"door: 1\ncallers: [{name: a, certificate: a.example, may: decide}]\n", "no client_ca to verify it by"},
		"keys over http": {"door: 1\ntokens: [{issuer: \"https://idp.example\", audience: a, keys: \"http://idp.example/jwks\"}]\n",
			"come over http"},
		"tokens of nobody": {"door: 1\ntokens: [{issuer: \"https://idp.example\", audience: a, keys: k}]\n", "may speak for no account"},
		"a fact that is none": {"door: 1\n" + strings.Replace(caller, "}]", ", people: {domains: x.example, facts: [salary]}}]", 1),
			`gateway may not state "salary" by people`},
		"devices by people": {"door: 1\n" + strings.Replace(caller, "}]", ", people: {domains: x.example, facts: [devices]}}]", 1),
			`gateway may not state "devices" by people`},
		"an emergency account of a feed's": {"door: 1\n" + strings.Replace(caller, "}]",
			", people: {domains: x.example, kinds: [emergency]}}]", 1),
			"the book alone says which accounts are for emergencies"},
		"bounds of what it may not": {"door: 1\n" + strings.Replace(caller, "}]", ", events: {domains: x.example}}]", 1),
			"may not `events`"},
		"an event that is none": {"door: 1\nevents: [{issuer: \"https://f.example\", audience: a, keys: k, types: [x]}]\n",
			`"x" is no event that is known`},
		"told over http": {"door: 1\ntell: {issuer: a, key: k, receivers: [{name: a, url: \"http://a.example\", audience: a}]}\n",
			"is told at an https URL"},
		"told by nobody": {"door: 1\ntell: {receivers: [{name: a, url: \"https://a.example\", audience: a}]}\n",
			"receivers need an issuer"},
		"a key without its file": {"door: 1\njournal: {key: a}\n", "key and checkpoint stand together"},
		"signing nothing":        {"door: 1\njournal: {mode: off, key: a, checkpoint: b}\n", "there is nothing to sign"},
		"two things at once":     {"door: 1\nlisten: x\nstore: {file: a, postgres: b}\n", "one of them only"},
	} {
		t.Run(name, func(t *testing.T) {
			_, err := door.ReadConfig("c.yaml", []byte(c.text))
			if c.want == "" {
				require.NoError(t, err)
				return
			}
			require.ErrorContains(t, err, c.want)
		})
	}
}
