package api

import (
	"context"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"net/http"
	"reflect"
	"slices"
	"strconv"
	"strings"

	"github.com/danielgtaylor/huma/v2"
	"github.com/gin-gonic/gin"

	"deftheron/contract"
	"deftheron/service/access"
	"deftheron/service/records"
)

func (s *Server) registerAudit(api huma.API) {
	add(api, http.MethodGet, "/audit", "list-audit", "A page of the audit log, newest first", http.StatusOK, s.listAudit)
	add(api, http.MethodGet, "/audit/verification", "verify-audit", "Check that the audit log is as it was written", http.StatusOK,
		s.verifyAudit)
}

// unaudited are the operations that change nothing and read no file, though they are no GET.
var unaudited = []string{"plan-copy", "plan-new-job", "plan-restore", "plan-removal", "plan-job-history", "try-arrival",
	"try-new-arrival", "read-week", "list-times", "check-definition", "check-paper", "read-people", "check-account", "list-resources",
	"probe-identity",
	"test-notifications"}

// reads are the operations that read files, though they are a GET. Each is recorded once in ten
// minutes for each file and user.
var reads = []string{"read-content", "read-archive", "read-preview", "export-audit", "report", "certificate"}

// subjectKey is the key of a *string with the subject of a request.
type subjectKey struct{}

// audited records a request that changes something or reads a file, after it was answered. Sign-ins
// record themselves: whoever is not signed in writes nothing here by asking.
func (s *Server) audited(c *gin.Context) {
	operation := operationOf(c.Request.Context())
	changes := c.Request.Method != http.MethodGet && c.Request.Method != http.MethodHead && !slices.Contains(unaudited, operation)
	read := slices.Contains(reads, operation)
	if c.IsAborted() || operation == "" || permissions[operation].open || !changes && !read {
		return
	}
	subject := subjectOfPath(c)
	c.Request = c.Request.WithContext(context.WithValue(c.Request.Context(), subjectKey{}, &subject))
	c.Next()
	s.record(c.Request.Context(), access.Event{Action: operation, Subject: subject, Outcome: outcomeOf(c.Writer.Status()), Coalesced: read})
}

// auditRefusal records a request that was refused for lack of permission.
func (s *Server) auditRefusal(c *gin.Context) {
	s.record(c.Request.Context(), access.Event{Action: operationOf(c.Request.Context()), Subject: subjectOfPath(c),
		Outcome: outcomeOf(c.Writer.Status()), Coalesced: true})
}

func outcomeOf(status int) string {
	if status < http.StatusBadRequest {
		return "done"
	}
	return fmt.Sprintf("%d %s", status, http.StatusText(status))
}

// record writes an event down. Where it has no person, it is of who makes the request.
func (s *Server) record(ctx context.Context, event access.Event) {
	if s.Audit == nil {
		return
	}
	if event.Person.Kind == "" {
		event.Person = person(ctx)
	}
	event.Visitor = visitor(ctx)
	if err := s.Audit.Record(ctx, event); err != nil {
		s.Log.ErrorContext(ctx, "the audit log cannot be written", "action", event.Action, "error", err)
	}
}

// subjectOfPath returns the subject that a request names in its path and its query.
func subjectOfPath(c *gin.Context) string {
	var parts []string
	for _, param := range c.Params {
		parts = append(parts, param.Value)
	}
	query := c.Request.URL.Query()
	for _, name := range []string{"address", "at"} {
		parts = append(parts, query[name]...)
	}
	return strings.Join(parts, " ")
}

// told are the fields of a request's body that say what it is about. No other field of a body gets
// into the audit log: it may be a secret.
var told = []string{"address", "addresses", "from", "to", "also", "as", "name", "names", "job", "provider", "role", "scopes", "grants",
	"routes", "step", "disabled", "path"}

// noteSubject adds what the body of a request is about to its subject.
func noteSubject(ctx context.Context, in any) {
	subject, ok := ctx.Value(subjectKey{}).(*string)
	if !ok {
		return
	}
	value := reflect.Indirect(reflect.ValueOf(in))
	if value.Kind() != reflect.Struct {
		return
	}
	field := value.FieldByName("Body")
	if !field.IsValid() {
		return
	}
	text, err := json.Marshal(field.Interface())
	if err != nil {
		return
	}
	var fields map[string]json.RawMessage
	if json.Unmarshal(text, &fields) != nil {
		return
	}
	var parts []string
	if *subject != "" {
		parts = append(parts, *subject)
	}
	for _, name := range told {
		if raw := fields[name]; len(raw) > 0 && string(raw) != "null" && string(raw) != `""` {
			parts = append(parts, name+"="+string(raw))
		}
	}
	*subject = strings.Join(parts, " ")
}

func auditEntryOf(row records.AuditEntry) contract.AuditEntry {
	return contract.AuditEntry{Seq: row.Seq, At: row.At, User: row.User, Kind: row.Kind, From: row.From, Client: row.Client,
		Action: row.Action, Subject: row.Subject, Outcome: row.Outcome, Times: row.Times, MAC: hex.EncodeToString(row.MAC)}
}

type auditInput struct {
	PageInput
	User   string `query:"user" doc:"Only what this user did."`
	Action string `query:"action" doc:"Only this operation, by its id."`
	Text   string `query:"text" maxLength:"200" doc:"Only entries with this text in the subject or the outcome. Pages may have fewer entries than the limit, and still have a next page."`
}

func (s *Server) listAudit(ctx context.Context, in *auditInput) (*body[contract.AuditPage], error) {
	before, err := in.after()
	if err != nil {
		return nil, err
	}
	rows, next, err := s.Audit.Find(ctx, records.AuditFilter{User: in.User, Action: in.Action, Text: in.Text}, before, in.Limit)
	page := contract.AuditPage{Entries: []contract.AuditEntry{}}
	for _, row := range rows {
		page.Entries = append(page.Entries, auditEntryOf(row))
	}
	if next > 0 {
		page.Next = strconv.FormatInt(next, 10)
	}
	return &body[contract.AuditPage]{page}, err
}

func (s *Server) verifyAudit(ctx context.Context, _ *none) (*body[contract.AuditCheck], error) {
	checked, err := s.Audit.Verify(ctx)
	shown := contract.AuditCheck{Whole: checked.Broken == 0, Entries: checked.Entries, First: checked.First, Last: checked.Last,
		Head: hex.EncodeToString(checked.Head), Broken: checked.Broken, Why: checked.Why, Since: momentOf(checked.Since)}
	return &body[contract.AuditCheck]{shown}, err
}

// exportAudit answers with the whole audit log as JSON Lines, oldest first.
func (s *Server) exportAudit(c *gin.Context) {
	c.Header("Content-Type", "application/x-ndjson")
	c.Header("Content-Disposition", `attachment; filename="audit.jsonl"`)
	encoder := json.NewEncoder(c.Writer)
	encoder.SetEscapeHTML(false)
	for row, err := range s.Audit.Entries(c.Request.Context()) {
		if err != nil {
			s.Log.ErrorContext(c.Request.Context(), "the export of the audit log broke off", "error", err)
			panic(http.ErrAbortHandler)
		}
		if encoder.Encode(auditEntryOf(row)) != nil {
			return // nobody listens any more
		}
	}
}
