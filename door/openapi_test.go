package door_test

import (
	"bytes"
	"encoding/json"
	"regexp"
	"strconv"
	"strings"
	"sync"
	"testing"

	"github.com/santhosh-tekuri/jsonschema/v6"
	"github.com/stretchr/testify/require"
)

// described is /openapi.json, by which every request and answer of these tests is held.
type described struct {
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
	api        *described
)

// describe reads the description, once.
func (h *house) describe() *described {
	describing.Do(func() {
		status, _, text := h.plainAsk("GET", "/openapi.json", "", nil)
		require.Equal(h.t, 200, status)
		api = &described{compiled: map[string]*jsonschema.Schema{}, compiler: jsonschema.NewCompiler()}
		require.NoError(h.t, json.Unmarshal(text, api))
		whole, err := jsonschema.UnmarshalJSON(bytes.NewReader(text))
		require.NoError(h.t, err)
		require.NoError(h.t, api.compiler.AddResource("openapi.json", whole))
	})
	return api
}

// operationOf returns what is described for a path, nil where nothing is.
func (d *described) operationOf(method, path string) *operation {
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
func (d *described) hold(t require.TestingT, c content, text []byte) {
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

func (d *described) schema(t require.TestingT, at string) *jsonschema.Schema {
	d.mu.Lock()
	defer d.mu.Unlock()
	if d.compiled[at] == nil {
		s, err := d.compiler.Compile("openapi.json" + at)
		require.NoError(t, err)
		d.compiled[at] = s
	}
	return d.compiled[at]
}

// held holds a request that was taken, and the answer, against the description.
func (h *house) held(method, path string, status int, body any, answer []byte) {
	d := h.describe()
	o := d.operationOf(method, path)
	if o == nil {
		require.Contains(h.t, []int{404, 405}, status, "%s %s is not described, and answers", method, path)
		return
	}
	said, ok := o.Responses[strconv.Itoa(status)]
	if !ok {
		require.GreaterOrEqual(h.t, status, 400, "%s %s answers with a status that is not described", method, path)
		said = o.Responses["default"]
	}
	if len(answer) > 0 {
		d.hold(h.t, said.Content, answer)
	}
	if text, isText := body.(string); isText && status < 300 && len(o.RequestBody.Content) > 0 {
		d.hold(h.t, o.RequestBody.Content, []byte(text))
	}
}

func TestTheDescriptionSaysWhatIsAnswered(t *testing.T) {
	h := newHouse(t, nil, answering)
	d := h.describe()
	require.Equal(t, "3.1.0", d.Openapi)
	for path, methods := range d.Paths {
		for method := range methods {
			t.Run(method+" "+path, func(t *testing.T) {
				status, _, _ := h.plainAsk(strings.ToUpper(method), strings.ReplaceAll(path, "{id}", "x"), all, nil)
				require.NotEqual(t, 405, status)
				if status == 404 {
					require.Contains(t, path, "{id}")
				}
			})
		}
	}
}
