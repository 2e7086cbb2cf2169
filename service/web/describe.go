package web

import (
	"net/http"
	"reflect"
	"strings"

	"github.com/danielgtaylor/huma/v2"

	"patientlantern.example/lantern/api"
)

// describeAgents puts the agents' calls into the description.
func (w *Web) describeAgents() {
	doc := w.api.OpenAPI()
	schema := func(v any, mediaType string) map[string]*huma.MediaType {
		if v == nil {
			return map[string]*huma.MediaType{mediaType: {Schema: &huma.Schema{Type: huma.TypeString}}}
		}
		return map[string]*huma.MediaType{mediaType: {Schema: doc.Components.Schemas.Schema(reflect.TypeOf(v), true, "")}}
	}
	add := func(id, method, route, summary string, in any, status string, out map[string]*huma.MediaType) {
		op := &huma.Operation{OperationID: id, Method: method, Path: route, Summary: summary, Tags: []string{"agents"},
			Responses: map[string]*huma.Response{
				status:    {Description: "Done", Content: out},
				"default": {Description: "Problem", Content: schema(huma.ErrorModel{}, "application/problem+json")},
			}}
		if id != "join" {
			op.Security = []map[string][]string{{"agent": {}}}
		}
		if in != nil {
			op.RequestBody = &huma.RequestBody{Required: true, Content: schema(in, "application/json")}
		}
		if strings.Contains(route, "{digest}") {
			op.Parameters = []*huma.Param{
				{Name: "digest", In: "path", Required: true, Schema: &huma.Schema{Type: huma.TypeString, Pattern: "^[0-9a-f]{64}$"}},
			}
		}
		doc.AddOperation(op)
	}
	add(
		"join",
		http.MethodPost,
		"/api/agent/join",
		"Take a host into the fleet",
		api.Join{},
		"200",
		schema(api.Joined{}, "application/json"),
	)
	add(
		"check-in",
		http.MethodPost,
		"/api/agent/check-in",
		"Say by digest how the host stands",
		api.CheckIn{},
		"200",
		schema(api.CheckInAnswer{}, "application/json"),
	)
	add("send-documents", http.MethodPost, "/api/agent/documents", "Send documents that the service asked for", api.Documents{}, "204", nil)
	add(
		"delivery",
		http.MethodGet,
		"/api/agent/delivery",
		"The signed delivery that waits: a compact JWS of a Delivery",
		nil,
		"200",
		schema(nil, "application/jose"),
	)
	add("report", http.MethodPost, "/api/agent/reports", "Say how carrying the delivery out went", api.Report{}, "204", nil)
	add(
		"access",
		http.MethodPost,
		"/api/agent/access",
		"Fetch what opens licensed sources, encrypted to this host",
		api.AccessOrder{},
		"200",
		schema(api.AccessAnswer{}, "application/json"),
	)
	add("document", http.MethodGet, "/api/documents/{digest}", "A sheet by its digest", nil, "200", schema(nil, "application/json"))
	add(
		"events",
		http.MethodGet,
		"/api/events",
		"Changes as they happen, as server-sent events",
		nil,
		"200",
		schema(api.Event{}, "text/event-stream"),
	)
	doc.Paths["/api/events"].Get.Tags = []string{"operators"}
	doc.Paths["/api/events"].Get.Security = []map[string][]string{{"operator": {}}, {"session": {}}}
	doc.Components.Schemas.Schema(reflect.TypeOf(api.Delivery{}), true, "")
	doc.Components.Schemas.Schema(reflect.TypeOf(api.AccessClaim{}), true, "")
}
