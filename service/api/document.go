package api

import (
	"net/http"

	"github.com/danielgtaylor/huma/v2"

	"deftheron/contract"
)

// document completes the document of the API: with the operations that stream, the permissions
// and the examples.
func document(api huma.API) error {
	d := documenting{api}
	d.runs()
	d.content()
	d.lines()
	declarePermissions(api)
	return addExamples(api.OpenAPI())
}

// documenting describes operations that are not huma's own.
type documenting struct{ api huma.API }

var binary = &huma.Schema{Type: "string", Format: "binary"}

func (d documenting) schema(value any) *huma.Schema {
	return d.api.OpenAPI().Components.Schemas.Schema(typeOf(value), true, "")
}

func (d documenting) text(name, where, doc string, required bool) *huma.Param {
	return &huma.Param{Name: name, In: where, Description: doc, Required: required, Schema: &huma.Schema{Type: "string"}}
}

func (d documenting) add(operation *huma.Operation) { d.api.OpenAPI().AddOperation(operation) }

func answer(status, doc, kind string, schema *huma.Schema) map[string]*huma.Response {
	return map[string]*huma.Response{status: {Description: doc, Content: map[string]*huma.MediaType{kind: {Schema: schema}}}}
}

// runs are what happens now, and the records of what happened.
func (d documenting) runs() {
	d.add(&huma.Operation{
		OperationID: "live", Method: http.MethodGet, Path: contract.Root + "/live", Summary: "What happens now, as server-sent events",
		Description: "Events: `run` (a Run), `accounts`, `folder` (the address of a folder whose listing is another by now), `progress` (a " +
			"Progress) and `again` (fetch everything again). Give the last id seen as Last-Event-ID.",
		Parameters: []*huma.Param{
			d.text("runs", "query", "Runs whose progress is sent: all (the default), none, or the id of one.", false),
			d.text("last", "query", "The last id seen, for clients that cannot send the header.", false),
		},
		Responses: answer("200", "Events", "text/event-stream", d.schema(contract.Progress{})),
	})
	d.add(&huma.Operation{
		OperationID: "report", Method: http.MethodGet, Path: contract.Root + "/runs/{id}/report", Summary: "The record of a run",
		Parameters: []*huma.Param{
			d.text("id", "path", "The run's id.", true),
			{Name: "format", In: "query", Schema: &huma.Schema{Type: "string", Enum: []any{"html", "csv", "json"}}},
		},
		Responses: map[string]*huma.Response{"200": {Description: "The report",
			Content: map[string]*huma.MediaType{"text/html": {}, "text/csv": {}, "application/json": {}}}},
	})
	d.add(&huma.Operation{
		OperationID: "certificate", Method: http.MethodGet, Path: contract.Root + "/runs/{id}/certificate",
		Summary: "What the final pass of a migration has verified",
		Description: "As JSON, the head, each file and each right that was not carried over stand on lines of their own, of which the " +
			"digest is taken. people-csv lists these rights alone.",
		Parameters: []*huma.Param{
			d.text("id", "path", "The run's id.", true),
			{Name: "format", In: "query", Schema: &huma.Schema{Type: "string", Enum: []any{"html", "csv", "json", "people-csv"}}},
		},
		Responses: map[string]*huma.Response{"200": {Description: "The certificate",
			Content: map[string]*huma.MediaType{"text/html": {}, "text/csv": {}, "application/json": {}}}},
	})
}

// content is what files hold.
func (d documenting) content() {
	d.add(&huma.Operation{
		OperationID: "read-content", Method: http.MethodGet, Path: contract.Root + "/content", Summary: "A file, or ranges of it",
		Description: "Range, If-Range and If-None-Match are obeyed (RFC 9110).",
		Parameters: []*huma.Param{d.text("address", "query", "The file's address.", true),
			d.text("as", "query", "Of a document: the format that it is exported as; its default unless given.", false),
			d.text("download", "query", "Not empty: to be kept, not shown.", false),
			d.text("transfer", "query", "An id under which its progress is reported.", false)},
		Responses: answer("200", "The content", "application/octet-stream", binary),
	})
	d.add(&huma.Operation{
		OperationID: "read-preview", Method: http.MethodGet, Path: contract.Root + "/preview", Summary: "A small picture of a file",
		Description: "Of pictures, of the first page of PDF files and of a still of films. An entry says whether there can be one.",
		Parameters: []*huma.Param{d.text("address", "query", "The file's address.", true),
			{Name: "size", In: "query", Description: "The longer side: small has 256 pixels, large 1,024.",
				Schema: &huma.Schema{Type: "string", Enum: []any{"small", "large"}}},
			d.text("revision", "query", "The file's revision, so that another one has another address; it is not looked at.", false)},
		Responses: map[string]*huma.Response{"200": {Description: "The preview",
			Content: map[string]*huma.MediaType{"image/png": {}, "image/jpeg": {}}}},
	})
	d.add(&huma.Operation{
		OperationID: "write-content", Method: http.MethodPut, Path: contract.Root + "/content", Summary: "Write a file, and verify it",
		Description: "Nothing may be there, unless If-Match names the ETag that may be replaced, or is *. Folders on the way are made.",
		Parameters: []*huma.Param{
			d.text("address", "query", "The file's address.", true),
			d.text("modified", "query", "The time to keep, where the account can (RFC 3339).", false),
			d.text("transfer", "query", "An id under which its progress is reported.", false),
			d.text("If-Match", "header", "What may be replaced.", false),
		},
		RequestBody: &huma.RequestBody{Required: true, Content: map[string]*huma.MediaType{"application/octet-stream": {Schema: binary}}},
		Responses:   answer("201", "The file as it is there", "application/json", d.schema(contract.Uploaded{})),
	})
	d.add(&huma.Operation{
		OperationID: "read-archive", Method: http.MethodGet, Path: contract.Root + "/archive", Summary: "Files and folders as one ZIP archive",
		Parameters: []*huma.Param{{Name: "address", In: "query", Required: true,
			Schema: &huma.Schema{Type: "array", Items: &huma.Schema{Type: "string"}}},
			d.text("transfer", "query", "An id under which its progress is reported.", false)},
		Responses: answer("200", "The archive", "application/zip", binary),
	})
}

// lines are answers of one JSON value a line.
func (d documenting) lines() {
	d.add(&huma.Operation{
		OperationID: "compare", Method: http.MethodGet, Path: contract.Root + "/comparison",
		Summary:     "Two addresses compared with each other, one JSON value a line",
		Description: "Each line is a Compared. The last one has the summary, or the problem with which it broke off.",
		Parameters: []*huma.Param{
			d.text("here", "query", "An address.", true), d.text("there", "query", "Another address.", true),
			d.text("read", "query", "true: read every two files of one size to their end, whatever is reported or remembered.", false),
			d.text("all", "query", "true: tell what is equal, too.", false),
		},
		Responses: answer("200", "Lines", "application/x-ndjson", d.schema(contract.Compared{})),
	})
	d.add(&huma.Operation{
		OperationID: "verify-certificate", Method: http.MethodGet, Path: contract.Root + "/runs/{id}/certificate/verification",
		Summary: "Compare the files at the target with a certificate, one JSON value a line",
		Description: "Every file is read, and its BLAKE3 compared with the certified one. " +
			"Each line is a VerifiedFile that does not hold what is certified. " +
			"The last one has the summary, or the problem with which it broke off.",
		Parameters: []*huma.Param{d.text("id", "path", "The run of the final pass.", true)},
		Responses:  answer("200", "Lines", "application/x-ndjson", d.schema(contract.VerifiedFile{})),
	})
	d.add(&huma.Operation{
		OperationID: "survey", Method: http.MethodGet, Path: contract.Root + "/survey",
		Summary: "The inventory of a folder, one JSON value a line",
		Description: "Each line is a Surveying. The last one has the survey, or the problem with which it broke off. " +
			"With format=html it is a page.",
		Parameters: []*huma.Param{
			d.text("address", "query", "The folder's address.", true), d.text("for", "query", "The folder that it is to go to.", false),
			d.text("format", "query", "html: a page to hand over.", false),
		},
		Responses: answer("200", "Lines", "application/x-ndjson", d.schema(contract.Surveying{})),
	})
	d.add(&huma.Operation{
		OperationID: "export-audit", Method: http.MethodGet, Path: contract.Root + "/audit/export",
		Summary:     "The whole audit log, oldest first, one JSON value a line",
		Description: "Each line is an AuditEntry.",
		Responses:   answer("200", "Lines", "application/x-ndjson", d.schema(contract.AuditEntry{})),
	})
	d.add(&huma.Operation{
		OperationID: "try-definition", Method: http.MethodPost, Path: contract.Root + "/trials",
		Summary:     "Try a provider definition against a live account, one JSON value a line",
		Description: "Each line is a TrialResult. The last one has the sum. The scratch folder that it is tried in is removed again.",
		RequestBody: &huma.RequestBody{Required: true,
			Content: map[string]*huma.MediaType{"application/json": {Schema: d.schema(contract.Trial{})}}},
		Responses: answer("200", "Lines", "application/x-ndjson", d.schema(contract.TrialResult{})),
	})
	d.add(&huma.Operation{
		OperationID: "make-backup", Method: http.MethodPost, Path: contract.Root + "/backups",
		Summary:     "Make a backup of the records and the key, sealed",
		Description: "The answer is an age file of a tar archive; docs/backup.md describes it.",
		RequestBody: &huma.RequestBody{Required: true,
			Content: map[string]*huma.MediaType{"application/json": {Schema: d.schema(contract.NewBackup{})}}},
		Responses: answer("200", "The backup", "application/octet-stream", &huma.Schema{Type: huma.TypeString, Format: "binary"}),
	})
}
