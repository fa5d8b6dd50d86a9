package standin

import (
	"html/template"
	"net/http"
	"net/url"
	"slices"
	"strings"
	"time"
)

var pages = template.Must(template.New("").Parse(`{{define "head"}}<!doctype html>
<html lang="en"><head><meta charset="utf-8"><meta name="viewport" content="width=device-width">
<title>{{.Title}}</title><style>
body{font:16px/1.5 sans-serif;margin:0;background:#f3f2ee;color:#222}
main{max-width:30rem;margin:8vh auto;background:#fff;padding:2rem;border-top:6px solid {{.Colour}};border-radius:4px}
h1{font-size:1.25rem;margin:0 0 1rem}
button{font:inherit;padding:.5rem 1.25rem;border-radius:4px;border:1px solid #666;background:#fff;margin-right:.5rem}
button.yes{background:{{.Colour}};border-color:{{.Colour}};color:#fff}
input,select{font:inherit;padding:.4rem;width:100%;box-sizing:border-box}
code{font-size:1.1rem;overflow-wrap:anywhere}p.wrong{color:#a00}</style></head><body><main>{{end}}
{{define "agree"}}{{template "head" .}}<h1>An app asks for your {{.Title}} files</h1>
<p>The app <b>{{.Client}}</b> asks to:</p><ul>{{range .Asks}}<li>{{.}}</li>{{end}}</ul>
<form method="post" action="/agree"><input type="hidden" name="query" value="{{.Query}}">
<p><label>Sign in as <select name="user">{{range .Users}}<option>{{.}}</option>{{end}}</select></label></p>
<button class="yes" name="answer" value="agree">Agree</button>
<button name="answer" value="refuse">Refuse</button></form></main>{{end}}
{{define "code"}}{{template "head" .}}<h1>Copy this code</h1>
<p>Go back to the app and paste it there:</p><p><code id="code">{{.Code}}</code></p></main>{{end}}
{{define "device"}}{{template "head" .}}<h1>Connect an app</h1>{{if .Wrong}}<p class="wrong">{{.Wrong}}</p>{{end}}
{{if .Done}}<p>{{.Done}} You can close this page.</p>{{else}}<form method="post" action="/device">
<p><label>The code that the app shows <input name="user_code" value="{{.Code}}" autofocus></label></p>
<p><label>Sign in as <select name="user">{{range .Users}}<option>{{.}}</option>{{end}}</select></label></p>
<button class="yes" name="answer" value="agree">Agree</button>
<button name="answer" value="refuse">Refuse</button></form>{{end}}</main>{{end}}
{{define "wrong"}}{{template "head" .}}<h1>This cannot go on</h1><p class="wrong">{{.Wrong}}</p></main>{{end}}`))

type pageData struct {
	Title, Colour, Client, Query, Code, Wrong, Done string
	Asks, Users                                     []string
}

func (c *Consents) show(w http.ResponseWriter, status int, name string, data pageData) {
	data.Title, data.Colour, data.Users = c.Title, c.Colour, c.Users
	w.Header().Set("Content-Type", "text/html; charset=utf-8")
	w.Header().Set("Cache-Control", "no-store")
	w.WriteHeader(status)
	_ = pages.ExecuteTemplate(w, name, data)
}

// page is the page where a person agrees or refuses.
func (c *Consents) page(w http.ResponseWriter, r *http.Request) {
	query := r.URL.Query()
	client := c.clientOf(query.Get("client_id"))
	if client == nil {
		c.show(w, http.StatusBadRequest, "wrong", pageData{Wrong: "No app is registered with the client id " + query.Get("client_id") + "."})
		return
	}
	target, ok := c.redirectOf(client, query.Get("redirect_uri"))
	if !ok {
		c.show(w, http.StatusBadRequest, "wrong", pageData{Wrong: "The app is not registered to lead back to " + query.Get("redirect_uri") + "."})
		return
	}
	back := func(code, why string) {
		leadBack(w, r, target, url.Values{"error": {code}, "error_description": {why}, "state": {query.Get("state")}})
	}
	switch {
	case query.Get("response_type") != "code":
		back("unsupported_response_type", "only code is known")
		return
	case c.Pkce && (query.Get("code_challenge") == "" || query.Get("code_challenge_method") != "S256"):
		back("invalid_request", "a code challenge by S256 is needed")
		return
	}
	var asks []string
	for _, scope := range strings.Fields(query.Get("scope")) {
		words, known := c.Scopes[scope]
		if !known {
			back("invalid_scope", "there is no scope "+scope)
			return
		}
		asks = append(asks, words)
	}
	c.show(w, http.StatusOK, "agree", pageData{Client: client.ID, Asks: asks, Query: r.URL.RawQuery})
}

func leadBack(w http.ResponseWriter, r *http.Request, target *url.URL, values url.Values) {
	to := *target
	query := to.Query()
	for name, value := range values {
		if value[0] != "" {
			query[name] = value
		}
	}
	to.RawQuery = query.Encode()
	http.Redirect(w, r, to.String(), http.StatusSeeOther)
}

func (c *Consents) decide(w http.ResponseWriter, r *http.Request) {
	query, err := url.ParseQuery(r.PostFormValue("query"))
	client := c.clientOf(query.Get("client_id"))
	if err != nil || client == nil {
		http.Error(w, "there is no such request", http.StatusBadRequest)
		return
	}
	target, ok := c.redirectOf(client, query.Get("redirect_uri"))
	if !ok || !slices.Contains(c.Users, r.PostFormValue("user")) {
		http.Error(w, "there is no such request", http.StatusBadRequest)
		return
	}
	if r.PostFormValue("answer") != "agree" {
		leadBack(w, r, target, url.Values{"error": {"access_denied"}, "error_description": {"the person refused"}, "state": {query.Get("state")}})
		return
	}
	code := newSecret()
	c.mu.Lock()
	c.codes[code] = &pendingCode{
		token: token{client: client, user: r.PostFormValue("user"), scopes: strings.Fields(query.Get("scope")),
			expires: time.Now().Add(time.Minute)},
		redirect: query.Get("redirect_uri"), challenge: query.Get("code_challenge"), method: query.Get("code_challenge_method"),
	}
	c.mu.Unlock()
	leadBack(w, r, target, url.Values{"code": {code}, "state": {query.Get("state")}})
}

// showCode is the page that shows a code, to be pasted.
func (c *Consents) showCode(w http.ResponseWriter, r *http.Request) {
	if refused := r.URL.Query().Get("error"); refused != "" || c.Shown == "" {
		c.show(w, http.StatusOK, "wrong", pageData{Wrong: "There is no code: " + refused + "."})
		return
	}
	c.show(w, http.StatusOK, "code", pageData{Code: r.URL.Query().Get("code")})
}

func (c *Consents) devicePage(w http.ResponseWriter, r *http.Request, wrong string) {
	c.show(w, http.StatusOK, "device", pageData{Code: r.FormValue("user_code"), Wrong: wrong})
}

func (c *Consents) decideDevice(w http.ResponseWriter, r *http.Request) {
	typed := strings.ToUpper(strings.TrimSpace(r.PostFormValue("user_code")))
	c.mu.Lock()
	var found *device
	for _, d := range c.devices {
		if d.userCode == typed && time.Now().Before(d.expires) && !d.granted && !d.refused {
			found = d
		}
	}
	agreed := r.PostFormValue("answer") == "agree" && slices.Contains(c.Users, r.PostFormValue("user"))
	if found != nil {
		found.granted, found.refused, found.user = agreed, !agreed, r.PostFormValue("user")
	}
	c.mu.Unlock()
	switch {
	case found == nil:
		c.devicePage(w, r, "There is no such code, or it has expired.")
	case agreed:
		c.show(w, http.StatusOK, "device", pageData{Done: "The app is connected."})
	default:
		c.show(w, http.StatusOK, "device", pageData{Done: "The app was refused."})
	}
}
