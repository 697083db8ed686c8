package doortest

import (
	"bytes"
	"encoding/json"
	"regexp"
	"strconv"
	"strings"
	"sync"

	"github.com/santhosh-tekuri/jsonschema/v6"
	"github.com/stretchr/testify/require"
)

// Described is /openapi.json, by which every request and answer of these tests is held.
type Described struct {
	Openapi    string
	Paths      map[string]map[string]operation
	Components struct{ Schemas map[string]any }

	mu       sync.Mutex
	compiled map[string]*jsonschema.Schema
	compiler *jsonschema.Compiler
}

type content map[string]struct {
	Schema map[string]any
}

type operation struct {
	RequestBody struct{ Content content } `json:"requestBody"`
	Responses   map[string]struct{ Content content }
}

var (
	describing sync.Once
	api        *Described
)

// Describe reads the description, once.
func (h *House) Describe() *Described {
	describing.Do(func() {
		status, _, text := h.PlainAsk("GET", "/openapi.json", "", nil)
		require.Equal(h.T, 200, status)
		api = &Described{compiled: map[string]*jsonschema.Schema{}, compiler: jsonschema.NewCompiler()}
		require.NoError(h.T, json.Unmarshal(text, api))
		whole, err := jsonschema.UnmarshalJSON(bytes.NewReader(text))
		require.NoError(h.T, err)
		require.NoError(h.T, api.compiler.AddResource("openapi.json", whole))
	})
	return api
}

// operationOf returns what is described for a path, nil where nothing is.
func (d *Described) operationOf(method, path string) *operation {
	path, _, _ = strings.Cut(path, "?")
	for pattern, methods := range d.Paths {
		matches := regexp.MustCompile("^" + regexp.MustCompile(`\\\{[a-z]+\\\}`).ReplaceAllString(regexp.QuoteMeta(pattern), "[^/]+") + "$").
			MatchString(path)
		if o, ok := methods[strings.ToLower(method)]; ok && matches {
			return &o
		}
	}
	return nil
}

// hold holds a text against the schema of a content.
func (d *Described) hold(t require.TestingT, c content, text []byte) {
	at, _ := c["application/json"].Schema["$ref"].(string)
	if at == "" {
		at, _ = c["application/problem+json"].Schema["$ref"].(string)
	}
	if at == "" {
		return
	}
	s := d.schema(t, at)
	value, err := jsonschema.UnmarshalJSON(bytes.NewReader(text))
	require.NoError(t, err)
	require.NoError(t, s.Validate(value), string(text))
}

func (d *Described) schema(t require.TestingT, at string) *jsonschema.Schema {
	d.mu.Lock()
	defer d.mu.Unlock()
	if d.compiled[at] == nil {
		s, err := d.compiler.Compile("openapi.json" + at)
		require.NoError(t, err)
		d.compiled[at] = s
	}
	return d.compiled[at]
}

// Held holds a request that was taken, and the answer, against the description.
func (h *House) Held(method, path string, status int, body any, answer []byte) {
	d := h.Describe()
	o := d.operationOf(method, path)
	if o == nil {
		require.Contains(h.T, []int{404, 405}, status, "%s %s is not described, and answers", method, path)
		return
	}
	said, ok := o.Responses[strconv.Itoa(status)]
	if !ok {
		require.GreaterOrEqual(h.T, status, 400, "%s %s answers with a status that is not described", method, path)
		said = o.Responses["default"]
	}
	if len(answer) > 0 {
		d.hold(h.T, said.Content, answer)
	}
	if text, isText := body.(string); isText && status < 300 && len(o.RequestBody.Content) > 0 {
		d.hold(h.T, o.RequestBody.Content, []byte(text))
	}
}
