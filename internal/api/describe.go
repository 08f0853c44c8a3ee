package api

import (
	"net/http"
	"reflect"
	"strconv"
	"strings"

	"github.com/danielgtaylor/huma/v2"

	"woodlark.example/internal/protocol"
	"woodlark.example/internal/remote"
)

// writeProblem answers with a problem document from a middleware.
func writeProblem(ctx huma.Context, status int, detail string) {
	ctx.SetHeader("Content-Type", "application/problem+json")
	ctx.SetStatus(status)
	_ = huma.DefaultJSONFormat.Marshal(ctx.BodyWriter(), &huma.ErrorModel{Title: http.StatusText(status), Status: status, Detail: detail})
}

// describeLists says in the document that lists and series also come as CSV, and that what
// is read may not have changed.
func describeLists(doc *huma.OpenAPI) {
	for path, item := range doc.Paths {
		op := item.Get
		if op == nil || path == "/api/v1/events" {
			continue
		}
		ok := op.Responses["200"]
		if ok == nil || ok.Content == nil {
			continue
		}
		// As a second form of content it would make each answer one of two types to those
		// who generate clients.
		op.Description = strings.TrimSpace(op.Description + " With 'Accept: text/csv' it comes as a table (RFC 4180), whose columns are named as the keys here.")
		if ok.Headers == nil {
			ok.Headers = map[string]*huma.Param{}
		}
		ok.Headers["ETag"] = &huma.Param{Description: "Of the content; as If-None-Match it spares the next answer", Schema: &huma.Schema{Type: "string"}}
		op.Responses["304"] = &huma.Response{Description: "Nothing changed since the content whose ETag was sent"}
	}
}

// describeAgentCalls adds what agents on other machines call, which is served by hand.
func describeAgentCalls(doc *huma.OpenAPI) {
	schema := func(v any) *huma.Schema {
		t := reflect.TypeOf(v)
		return doc.Components.Schemas.Schema(t, true, t.Name())
	}
	problemOf := func(status int) *huma.Response {
		return &huma.Response{Description: http.StatusText(status), Content: map[string]*huma.MediaType{"application/problem+json": {Schema: schema(huma.ErrorModel{})}}}
	}
	// What agents and service say to each other beyond that is a matter of their version.
	free := func(says string) *huma.Schema {
		return &huma.Schema{Type: "object", AdditionalProperties: true, Description: says}
	}
	text := func(t string, v any) map[string]*huma.MediaType {
		if s, is := v.(*huma.Schema); is {
			return map[string]*huma.MediaType{t: {Schema: s}}
		}
		return map[string]*huma.MediaType{t: {Schema: schema(v)}}
	}
	for _, c := range []struct {
		method, path, id, summary string
		in, out                   any
		form                      string
		open                      bool
		errors                    []int
	}{
		{"POST", "/join", "agent-join", "Spend an invite and get a key", remote.JoinRequest{}, remote.JoinAnswer{}, "application/json", true, []int{400, 403, 413, 422, 429, 500, 503}},
		{"GET", "/plan", "agent-plan", "Fetch what to do; 304 when it is as before", nil, free("Tasks, sweeps and traces, for an agent of the same version"), "application/json", false, []int{401}},
		{"GET", "/commands", "agent-commands", "Hold a connection: one command a line, and a sign of life each 20 s", nil, free("A command, for an agent of the same version"), "application/x-ndjson", false, []int{401}},
		{"POST", "/uploads", "agent-upload", "Hand over what was measured, packed by gzip; what was handed over before counts once", free("Readings, runs, sweeps, traces and measurements with two ends, as an agent of the same version writes them"), nil, "", false, []int{400, 401, 413, 422, 500, 503}},
		{"POST", "/replies", "agent-reply", "Say how far commands are, and what came of them", &huma.Schema{Type: "array", Items: free("A reply, as an agent of the same version writes it")}, nil, "", false, []int{400, 401, 413}},
		{"POST", "/health", "agent-health", "Say how the agent is", protocol.Health{}, nil, "", false, []int{400, 401, 413, 422, 503}},
	} {
		op := &huma.Operation{Method: c.method, OperationID: c.id, Summary: c.summary, Tags: []string{"For agents"}, Responses: map[string]*huma.Response{}, Security: []map[string][]string{{"agent": {}}}}
		if c.open {
			op.Security = []map[string][]string{}
		}
		if c.in != nil {
			op.RequestBody = &huma.RequestBody{Required: true, Content: text("application/json", c.in)}
		}
		if c.out != nil {
			op.Responses["200"] = &huma.Response{Description: "OK", Content: text(c.form, c.out)}
		} else {
			op.Responses["204"] = &huma.Response{Description: "Taken"}
		}
		if c.path == "/plan" {
			op.Responses["304"] = &huma.Response{Description: "As before"}
		}
		for _, status := range c.errors {
			op.Responses[strconv.Itoa(status)] = problemOf(status)
		}
		item := &huma.PathItem{Get: op}
		if c.method == http.MethodPost {
			item = &huma.PathItem{Post: op}
		}
		doc.Paths["/api/v1/agent"+c.path] = item
	}
}
