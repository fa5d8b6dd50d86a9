package api

import (
	"context"
	"fmt"
	"net/http"
	"strings"

	"github.com/danielgtaylor/huma/v2"
	"github.com/gin-gonic/gin"

	"deftheron/contract"
	"deftheron/core/store"
	"deftheron/core/tree"
	"deftheron/service/access"
)

// The scopes of tokens for programs.
const (
	scopeRead     = "read"     // looks, and reads files
	scopeFiles    = "files"    // changes files
	scopeJobs     = "jobs"     // makes jobs, starts and stops runs
	scopeAccounts = "accounts" // links accounts and changes them
	scopeSettings = "settings" // everything else that is an owner's
)

var scopes = []string{scopeRead, scopeFiles, scopeJobs, scopeAccounts, scopeSettings}

// permission is what an operation needs of who asks for it.
type permission struct {
	// open operations need no sign-in.
	open bool
	role access.Role
	// scope is the scope that a token for programs must have; empty if any may.
	scope string
	// fresh operations need a session that signed in during the last 15 minutes.
	fresh bool
	// whole operations are not for tokens that were narrowed down by scopes or grants: they would
	// lead around these.
	whole bool
}

var (
	nobody  = permission{open: true}
	anybody = permission{role: access.Viewer}
	self    = permission{role: access.Viewer, whole: true}
	look    = permission{role: access.Viewer, scope: scopeRead}
	changes = permission{role: access.Operator, scope: scopeFiles}
	says    = permission{role: access.Viewer, scope: scopeFiles}
	jobs    = permission{role: access.Operator, scope: scopeJobs}
	links   = permission{role: access.Operator, scope: scopeAccounts}
	plans   = permission{role: access.Operator, scope: scopeRead}
	owners  = permission{role: access.Owner, scope: scopeSettings}
	// manages is what owners do, and operators with what they were assigned, which the operation looks at.
	manages = permission{role: access.Operator, scope: scopeSettings}
	// wholeOwners is for what leads around grants: a backup holds everything.
	wholeOwners = permission{role: access.Owner, scope: scopeSettings, whole: true}
)

// fresh returns a permission that also needs a fresh sign-in.
func fresh(p permission) permission {
	p.fresh = true
	return p
}

// permissions are what each operation of the API needs, by its id. What is within an account, a
// job or a run is then held to the grants of who asks: see guardPlace, and tree.Scope for every
// address in a request. An operation that is not in the table is refused.
var permissions = map[string]permission{
	"start-session": nobody, "sign-in-ways": nobody, "begin-provider-sign-in": nobody, "end-provider-sign-in": nobody,
	"begin-passkey-sign-in": nobody, "end-passkey-sign-in": nobody, "consent-callback": nobody,
	// Workers sign in within their connection, and streams are known by the token of their request.
	"join-worker": nobody, "connect-worker": nobody, "worker-answer": nobody, "worker-content": nobody,

	"show-document": anybody, "whoami": anybody, "end-session": self, "confirm-session": self, "list-sessions": self,
	"end-sessions": self, "end-one-session": self, "set-password": fresh(self), "new-codes": fresh(self), "set-codes": fresh(self),
	"remove-codes": fresh(self), "list-tokens": self, "make-token": fresh(self), "revoke-token": self,
	"list-passkeys": self, "begin-passkey": fresh(self), "end-passkey": fresh(self), "remove-passkey": fresh(self),
	"begin-passkey-confirmation": self, "end-passkey-confirmation": self, "make-signin-link": self,

	"list-providers": look, "show-provider": look, "list-accounts": look, "show-account": look, "show-account-usage": look,
	"list-speeds": look, "list-link-events": look, "show-sealing": look, "show-bandwidth": look, "show-runs-at-once": look,
	"list-folder": look, "show-entry": look, "read-content": look, "read-preview": look, "read-archive": look, "compare": look,
	"survey": look, "space": look, "list-causes": look, "list-jobs": look, "show-job": look, "show-job-file": look, "list-arrivals": look,
	"list-share-links": look, "show-share-link": look, "make-share-link": changes, "revoke-share-link": changes,
	"show-share-settings": look, "set-share-settings": fresh(owners),
	"search": look, "list-search-states": look, "list-unread": look, "set-search": links,
	"show-annotations": look, "list-annotated": look, "list-tags": look, "list-locks": look, "tag": changes, "import-annotations": changes,
	"add-comment": says, "edit-comment": says, "remove-comment": says, "lock": changes, "unlock": changes,
	"show-people": look, "read-people": look,
	"list-rehearsals": look, "list-rehearsal-warnings": look, "list-runs": look, "show-run": look, "list-items": look,
	"count-causes": look, "show-run-series": look, "list-run-events": look, "list-flows": look, "rates": look, "report": look,
	"certificate": look, "verify-certificate": look, "check-paper": look, "show-history": look, "live": look, "read-week": look,
	"list-times": look,

	"plan-copy": plans, "plan-job": plans, "plan-new-job": plans, "plan-restore": plans, "plan-removal": plans, "plan-job-history": plans,
	"try-arrival": plans, "try-new-arrival": plans,

	"make-folder": changes, "move": changes, "remove": changes, "write-content": changes,

	"start-copy": jobs, "start-restore": jobs, "create-job": jobs, "change-job": jobs, "remove-job": jobs, "start-job": jobs,
	"suspend-job": jobs, "resume-job": jobs, "load-job-file": jobs, "announce-arrival": jobs, "start-rehearsal": jobs, "cancel-run": jobs,
	"pause-run": jobs, "resume-run": jobs, "retry-run": jobs, "decide-items": jobs, "set-run-bandwidth": jobs, "set-run-priority": jobs,
	"release-run": fresh(jobs),

	"link-account": links, "edit-account": fresh(links), "unlink-account": links, "check-account": links, "suspend-account": links,
	"resume-account": links, "reauthorize-account": fresh(links), "list-account-resources": links, "link-resource": links,
	"list-resources": links, "probe-identity": links, "list-nearby": links, "measure-speed": links, "set-account-bandwidth": links,
	"begin-consent": links, "show-consent": links, "answer-consent": links, "give-up-consent": links, "new-key": fresh(links),
	"start-sealing": fresh(links),

	"set-bandwidth": owners, "set-runs-at-once": owners, "list-notifications": owners, "show-notification-settings": owners,
	"set-notification-settings": fresh(owners), "test-notifications": owners, "add-definition": owners, "check-definition": owners,
	"remove-definition": owners, "try-definition": owners, "register-app": fresh(owners), "rotate-token": fresh(owners),
	"make-backup": fresh(wholeOwners), "set-backups": fresh(wholeOwners), "end-backups": fresh(wholeOwners), "show-backups": owners,
	"metrics": owners, "list-users": owners, "add-user": fresh(owners), "show-user": owners, "change-user": fresh(owners),
	"remove-user": fresh(owners), "set-grant": fresh(owners), "remove-grant": fresh(owners), "make-user-link": fresh(owners),
	"list-workers": look, "create-worker": fresh(owners), "change-worker": manages, "new-worker-code": fresh(manages),
	"remove-worker": fresh(owners), "show-worker-sharing": look, "set-worker-sharing": owners,
	"set-site-bandwidth": owners,
	"list-audit":         owners, "verify-audit": owners, "export-audit": owners, "diagnose": owners,
}

// routesOf returns the operation of each route of the API, by method and path as the router has
// them: those of the document, and those that are not in it.
func routesOf(api huma.API) map[string]string {
	routes := map[string]string{
		"GET " + contract.Root + "/metrics": "metrics", "HEAD " + contract.Root + "/content": "read-content",
		"GET " + CallbackPath: "consent-callback", "GET " + contract.Root + "/session/provider": "begin-provider-sign-in",
		"GET " + ProviderCallbackPath: "end-provider-sign-in", "GET " + contract.WorkerConnectPath: "connect-worker",
		"POST " + contract.WorkerAnswerPath: "worker-answer", "GET " + contract.WorkerContentPath: "worker-content",
	}
	for _, suffix := range []string{".json", ".yaml", "-3.0.json", "-3.0.yaml"} {
		routes["GET "+contract.Root+"/openapi"+suffix] = "show-document"
	}
	for path, item := range api.OpenAPI().Paths {
		path = strings.NewReplacer("{", ":", "}", "").Replace(path)
		for method, operation := range map[string]*huma.Operation{"GET": item.Get, "PUT": item.Put, "POST": item.Post,
			"DELETE": item.Delete, "PATCH": item.Patch} {
			if operation != nil {
				routes[method+" "+path] = operation.OperationID
			}
		}
	}
	return routes
}

// declarePermissions writes the permission of each operation into the API's document.
func declarePermissions(api huma.API) {
	for _, item := range api.OpenAPI().Paths {
		for _, operation := range []*huma.Operation{item.Get, item.Put, item.Post, item.Delete, item.Patch} {
			if operation == nil {
				continue
			}
			need := permissions[operation.OperationID]
			words := "role " + string(need.role)
			switch {
			case need.open:
				words = "none"
			case need.scope != "":
				words += ", scope " + need.scope
			}
			if need.fresh {
				words += ", signed in during the last 15 minutes"
			}
			if operation.Extensions == nil {
				operation.Extensions = map[string]any{}
			}
			operation.Extensions["x-permission"] = words
		}
	}
}

type operationKey struct{}

// operationOf is the id of the operation that a request is for.
func operationOf(ctx context.Context) string {
	id, _ := ctx.Value(operationKey{}).(string)
	return id
}

// permit lets a request on if who makes it may have its operation, and what it names in its path.
func (s *Server) permit(c *gin.Context, need permission, who access.Person) bool {
	if refused := s.refusal(need, who); refused != nil {
		refuse(c, refused)
		return false
	}
	if err := s.guardPlace(c, need, who); err != nil {
		refuse(c, problem(err))
		return false
	}
	return true
}

// notAllowed is the problem of a missing permission, without a reason yet.
func notAllowed() contract.Problem {
	return contract.Problem{Status: http.StatusForbidden, Title: http.StatusText(http.StatusForbidden), Cause: contract.CauseNotAllowed}
}

// refusal returns why a person may not use an operation at all; nil if they may.
func (s *Server) refusal(need permission, who access.Person) *contract.Problem {
	denied := notAllowed()
	switch {
	case need.role == "" || !who.Role.Covers(need.role):
		denied.Detail = fmt.Sprintf("This needs the role %s, and %s has the role %s.", need.role, who.Name, who.Role)
		denied.Remedy = "Ask an owner of the service to do it, or to change the role."
		denied.Commands = []string{"heron user list"}
	case !who.Has(need.scope):
		denied.Detail = fmt.Sprintf("This needs a token for %s, and the token %s is for %s.", need.scope, who.Token,
			strings.Join(who.Scopes, ", "))
		denied.Remedy = "Make a token for it."
		denied.Commands = []string{"heron token create NAME --scope " + need.scope}
	case need.whole && (len(who.Scopes) > 0 || who.Narrowed):
		denied.Detail = "The token " + who.Token + " has scopes or grants of its own, and this would lead around them."
		denied.Remedy = "Use a token without scopes and grants, or the console."
	case who.Kind == access.KindToken && need.fresh && need.scope == "":
		denied.Detail = "A token for programs cannot change how its user signs in."
		denied.Remedy = "Sign in to the console to do it."
	case need.fresh && !who.Fresh(s.Access.Now()):
		denied.Cause = contract.CauseSignInAgain
		denied.Detail = "This needs a sign-in of the last 15 minutes."
		denied.Remedy = "Sign in again and repeat it."
	default:
		return nil
	}
	return &denied
}

// guardPlace holds the account, the job or the run in a request's path to the grants of who asks:
// what they do not see is as if it were not there.
func (s *Server) guardPlace(c *gin.Context, need permission, who access.Person) error {
	if who.Scope == nil {
		return nil
	}
	ctx := c.Request.Context()
	changing := need.role == access.Operator && need.scope != scopeRead
	path := strings.TrimPrefix(c.FullPath(), contract.Root)
	switch {
	case strings.HasPrefix(path, "/accounts/:name"):
		address := store.Address{Account: c.Param("name")}
		if _, err := s.Accounts.ID(ctx, address.Account); err != nil {
			return err
		}
		if path == "/accounts/:name" && !changing {
			return nil // tells less of an account that is seen in part
		}
		if err := tree.CheckSeen(ctx, address); err != nil {
			return &tree.ErrNotAllowed{Address: address} // its name is known: it is on the way to what is seen
		}
		if changing {
			return tree.CheckChange(ctx, address)
		}
	case strings.HasPrefix(path, "/jobs/:name"):
		return s.Runner.CheckJobSeen(ctx, c.Param("name"), changing)
	case strings.HasPrefix(path, "/runs/:id"):
		return noRun(c.Param("id"), s.Runner.CheckRunSeen(ctx, c.Param("id"), changing))
	}
	return nil
}
