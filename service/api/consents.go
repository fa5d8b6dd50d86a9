package api

import (
	"context"
	"crypto/rand"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"html/template"
	"net/http"
	"time"

	"github.com/danielgtaylor/huma/v2"
	"github.com/gin-gonic/gin"

	"deftheron/contract"
	"deftheron/core/store"
	"deftheron/core/tree"
	"deftheron/provider/declared"
	"deftheron/service/access"
	"deftheron/service/accounts"
)

// CallbackPath is where consent pages lead back to.
const CallbackPath = "/consent/callback"

func (s *Server) registerConsents(api huma.API) {
	add(api, http.MethodPost, "/consents", "begin-consent", "Start linking or reauthorizing by consent", http.StatusCreated, s.beginConsent)
	add(api, http.MethodGet, "/consents/{id}", "show-consent", "How a consent is", http.StatusOK, s.showConsent)
	add(api, http.MethodPost, "/consents/{id}/answer", "answer-consent", "Give the code that the consent page showed", http.StatusOK,
		s.answerConsent)
	add(api, http.MethodDelete, "/consents/{id}", "give-up-consent", "Give a consent up", http.StatusNoContent, s.giveUpConsent)
	add(api, http.MethodPost, "/accounts/{name}/reauthorize", "reauthorize-account", "Reauthorize an account with a new secret", http.StatusOK,
		s.reauthorizeAccount)
	add(api, http.MethodGet, "/providers/{name}", "show-provider", "Show a provider and its definition", http.StatusOK, s.showProvider)
	add(api, http.MethodPost, "/definitions", "add-definition", "Add or replace a provider definition", http.StatusOK, s.addDefinition)
	add(api, http.MethodPost, "/definitions/checks", "check-definition", "Check a provider definition", http.StatusOK, s.checkDefinition)
	add(api, http.MethodDelete, "/definitions/{name}", "remove-definition", "Remove a provider definition", http.StatusNoContent,
		s.removeDefinition)
	add(api, http.MethodPut, "/providers/{name}/registration", "register-app", "Set your own app registration", http.StatusNoContent,
		s.registerApp)
}

type idInput struct {
	ID string `path:"id"`
}

// consentOutput is a consent that was started, and in the console a cookie that binds the answer to the
// browser.
type consentOutput struct {
	SetCookie []http.Cookie `header:"Set-Cookie"`
	Body      contract.Consent
}

// consentCookie is the cookie of a value; an empty one removes it.
func (s *Server) consentCookie(value string) http.Cookie {
	return s.returnCookie("consent", value, time.Hour)
}

func hashOf(text string) string {
	sum := sha256.Sum256([]byte(text))
	return hex.EncodeToString(sum[:])
}

func (s *Server) beginConsent(ctx context.Context, in *body[contract.Consenting]) (*consentOutput, error) {
	if in.Body.Try {
		return nil, store.Errorf(store.ErrRefused,
			"an account that is linked by consent cannot be tried first; link it, and unlink it if it is not "+
				"the one that you meant")
	}
	asked := accounts.Consenting{
		Link: s.linkOf(ctx, in.Body.Link), Way: store.ConsentWay(in.Body.Way), Callback: s.BaseURL + CallbackPath,
		Reauthorize: in.Body.Reauthorize,
		Console:     in.Body.Console, ClientSecret: in.Body.Secret,
	}
	asked.Secret = ""
	if in.Body.Definition != "" {
		definition, err := declared.Load("definition", []byte(in.Body.Definition))
		if err != nil {
			return nil, err
		}
		asked.Trial = declared.New(definition)
	}
	if asked.Trial != nil {
		if refused := s.refusal(owners, person(ctx)); refused != nil {
			return nil, refused
		}
	}
	if asked.Reauthorize {
		if err := tree.CheckChange(ctx, store.Address{Account: asked.Name}); err != nil {
			return nil, err
		}
	}
	out := &consentOutput{}
	if in.Body.Console && person(ctx).Kind == access.KindSession {
		value := rand.Text()
		asked.Browser, out.SetCookie = hashOf(value), []http.Cookie{s.consentCookie(value)}
	}
	begun, err := s.Accounts.BeginConsent(ctx, s.Background, asked)
	if err != nil {
		return nil, err
	}
	out.Body = s.consentOf(ctx, begun)
	return out, nil
}

func (s *Server) linkOf(ctx context.Context, link contract.Link) accounts.Link {
	asked := accounts.Link{
		Provider: link.Provider, Name: link.Name, Options: link.Options, Start: link.Start, Secret: link.Secret, Files: link.Files,
		ReadOnly: link.ReadOnly, Try: link.Try, At: link.At,
	}
	if link.Again {
		if id, err := s.DB.LinkedAs(ctx, link.Name); err == nil {
			asked.Again = id
		}
	}
	return asked
}

func (s *Server) consentOf(ctx context.Context, c accounts.Consent) contract.Consent {
	shown := contract.Consent{ID: c.ID, Way: string(c.Way), State: string(c.State), URL: c.URL, UserCode: c.UserCode, Expires: c.Expires}
	if c.Err != nil {
		why := problem(c.Err)
		shown.Why, shown.Remedy = why.Detail, why.Remedy
	}
	if c.State == accounts.ConsentLinked {
		account := s.accountOf(ctx, c.Account, &c.Found)
		shown.Account = &account
	}
	return shown
}

func (s *Server) showConsent(ctx context.Context, in *idInput) (*body[contract.Consent], error) {
	if err := s.ownConsent(ctx, in.ID); err != nil {
		return nil, err
	}
	consent, err := s.Accounts.Consent(in.ID)
	return &body[contract.Consent]{s.consentOf(ctx, consent)}, err
}

// ownConsent returns an error unless who asks began a consent.
func (s *Server) ownConsent(ctx context.Context, id string) error {
	if _, err := s.Accounts.Consent(id); err != nil || s.Accounts.ConsentOf(ctx, id) {
		return err
	}
	_, err := s.Accounts.Consent("") // as if there were none
	return err
}

type answerInput struct {
	ID   string `path:"id"`
	Body contract.Pasted
}

func (s *Server) answerConsent(ctx context.Context, in *answerInput) (*body[contract.Consent], error) {
	if err := s.ownConsent(ctx, in.ID); err != nil {
		return nil, err
	}
	consent, err := s.Accounts.AnswerByPaste(ctx, in.ID, in.Body.Text)
	return &body[contract.Consent]{s.consentOf(ctx, consent)}, err
}

func (s *Server) giveUpConsent(ctx context.Context, in *idInput) (*none, error) {
	if !s.Accounts.ConsentOf(ctx, in.ID) {
		return &none{}, nil
	}
	s.Accounts.GiveUpConsent(in.ID)
	return &none{}, nil
}

type reauthorizeInput struct {
	Name string `path:"name" doc:"The account's name."`
	Body contract.Reauthorizing
}

func (s *Server) reauthorizeAccount(ctx context.Context, in *reauthorizeInput) (*body[contract.Account], error) {
	row, found, err := s.Accounts.Reauthorize(ctx, in.Name, in.Body.Secret, in.Body.Files)
	return &body[contract.Account]{s.accountOf(ctx, row, &found)}, err
}

// callbackPage is shown to a person who comes back from a consent page that was
// opened from a terminal, or with an answer that belongs to no consent here.
var callbackPage = template.Must(template.New("").Parse(`<!doctype html>
<html lang="en"><head><meta charset="utf-8"><meta name="viewport" content="width=device-width"><title>{{.Title}} · Deft Heron</title>
<style nonce="{{.Nonce}}">:root{color-scheme:light dark}
body{font:15px/1.6 system-ui,sans-serif;background:light-dark(#f6f7f4,#11181c);color:light-dark(#1c2930,#e6ece9);
margin:0}
main{max-width:36rem;margin:12vh auto;padding:0 1.5rem}h1{font-size:24px;margin:0 0 .5rem}
a{color:light-dark(#35617f,#7fb2d3)}</style></head>
<body><main><h1>{{.Title}}</h1><p>{{.Text}}</p>{{if .Remedy}}<p>{{.Remedy}}</p>{{end}}<p><a href="/accounts">Go to the accounts</a></p></main></body></html>`))

// callback is where a consent page leads back to. Nobody has to be signed in:
// the state binds the answer to the link that is pending.
func (s *Server) callback(c *gin.Context) {
	query := c.Request.URL.Query()
	answer := store.ConsentAnswer{Code: query.Get("code"), Refused: query.Get("error"), Why: query.Get("error_description"),
		Issuer: query.Get("iss")}
	if answer.Code == "" && answer.Refused == "" {
		answer.Refused, answer.Why = "no_code", "the page led back without a code"
	}
	browser := ""
	if cookie, err := c.Request.Cookie(s.consentCookie("").Name); err == nil {
		browser = hashOf(cookie.Value)
	}
	consent, err := s.Accounts.AnswerByState(c.Request.Context(), query.Get("state"), browser, answer)
	c.Header("Cache-Control", "no-store")
	if err == nil && consent.Console {
		c.Redirect(http.StatusSeeOther, "/accounts/consent/"+consent.ID)
		return
	}
	status, title, text, remedy := http.StatusOK, "Linked", "The account /"+consent.Account.Name+
		" is linked. You can close this page and go back to the terminal.", ""
	if err == nil && consent.State == accounts.ConsentGranted {
		title, text = "Agreed", "The trial goes on in the terminal. You can close this page."
	}
	if err == nil {
		err = consent.Err
	}
	if err != nil {
		why := problem(err)
		status, title, text, remedy = http.StatusBadRequest, "Not linked", why.Detail, why.Remedy
		if errors.Is(err, accounts.ErrState) {
			title = "This answer belongs to nothing here"
		}
	}
	nonce := rand.Text()
	c.Header("Content-Security-Policy", policy(nonce))
	c.Header("Content-Type", "text/html; charset=utf-8")
	c.Status(status)
	_ = callbackPage.Execute(c.Writer, map[string]string{"Title": title, "Text": text, "Remedy": remedy, "Nonce": nonce})
}

func (s *Server) showProvider(ctx context.Context, in *nameInput) (*body[contract.Provider], error) {
	provider, err := s.Accounts.Provider(in.Name)
	if err != nil {
		return nil, store.Errorf(store.ErrNotFound, "%w", err)
	}
	shown := s.providerOf(ctx, provider)
	if known, ok := provider.(*declared.Provider); ok {
		shown.Definition = known.Definition().Source
	}
	return &body[contract.Provider]{shown}, nil
}

// providerOf is a provider without the text of its definition.
func (s *Server) providerOf(ctx context.Context, provider store.Provider) contract.Provider {
	shown := contract.Provider{Name: provider.Name(), Title: provider.Title(), Shipped: true, Consents: []string{},
		Options: []contract.Option{}}
	for _, option := range provider.Options() {
		shown.Options = append(shown.Options, contract.Option{
			Name: option.Name, Title: option.Title, Help: option.Help, Required: option.Required, Default: option.Default,
			Choices: option.Choices, Secret: option.Secret, File: option.File,
		})
	}
	if lister, ok := provider.(store.ResourceLister); ok {
		shown.Resource = lister.ResourceOption()
	}
	if introducer, ok := provider.(store.IdentityProber); ok {
		shown.IdentityOption = introducer.IdentityOption()
	}
	if known, ok := provider.(*declared.Provider); ok {
		shown.Declared, shown.Shipped, shown.About = true, known.Definition().Shipped, known.Definition().About
		for _, way := range known.ConsentWays(nil) {
			shown.Consents = append(shown.Consents, string(way))
		}
		if s.Accounts != nil {
			shown.Registered = s.Accounts.RegisteredAs(ctx, provider.Name())
		}
	}
	return shown
}

func (s *Server) addDefinition(ctx context.Context, in *body[contract.DefinitionText]) (*body[contract.Provider], error) {
	provider, err := s.Accounts.AddDefinition(ctx, fileOf(in.Body.File), in.Body.Text)
	if err != nil {
		return nil, err
	}
	return &body[contract.Provider]{s.providerOf(ctx, provider)}, nil
}

func (s *Server) checkDefinition(ctx context.Context, in *body[contract.DefinitionText]) (*body[contract.Provider], error) {
	definition, err := declared.Load(fileOf(in.Body.File), []byte(in.Body.Text))
	if err != nil {
		return nil, err
	}
	return &body[contract.Provider]{s.providerOf(ctx, declared.New(definition))}, nil
}

func fileOf(name string) string {
	if name == "" {
		return "the definition"
	}
	return name
}

func (s *Server) removeDefinition(ctx context.Context, in *nameInput) (*none, error) {
	return &none{}, s.Accounts.RemoveDefinition(ctx, in.Name)
}

type registrationInput struct {
	Name string `path:"name" doc:"The provider's name."`
	Body contract.Registration
}

func (s *Server) registerApp(ctx context.Context, in *registrationInput) (*none, error) {
	return &none{}, s.Accounts.Register(ctx, in.Name, in.Body.ClientID, in.Body.Secret)
}

// try tries a provider definition and tells of each part as it ends, one JSON
// value a line.
func (s *Server) try(c *gin.Context) {
	var asked contract.Trial
	decoder := json.NewDecoder(http.MaxBytesReader(c.Writer, c.Request.Body, 2*declared.Largest))
	if err := decoder.Decode(&asked); err != nil {
		refuse(c, &contract.Problem{Status: http.StatusBadRequest, Detail: "The request cannot be read: " + err.Error() + "."})
		return
	}
	definition, err := declared.Load(fileOf(asked.File), []byte(asked.Text))
	if err != nil {
		refuse(c, problem(err))
		return
	}
	trial := accounts.Trial{Provider: declared.New(definition), Options: asked.Options, Start: asked.Start, Secret: asked.Secret}
	if asked.Consent != "" {
		secret, err := s.Accounts.Granted(asked.Consent)
		if err != nil {
			refuse(c, problem(err))
			return
		}
		trial.Secret = string(secret)
	}
	opening, err := s.Accounts.TrialOpening(trial)
	if err != nil {
		refuse(c, problem(err))
		return
	}
	c.Header("Content-Type", "application/x-ndjson")
	c.Status(http.StatusOK)
	encoder := json.NewEncoder(c.Writer)
	encoder.SetEscapeHTML(false)
	tell := func(result contract.TrialResult) {
		_ = encoder.Encode(result)
		c.Writer.Flush()
	}
	sum, err := trial.Provider.Try(c.Request.Context(), opening, func(r declared.Result) {
		shown := contract.TrialResult{Part: r.Part, Outcome: string(r.Outcome), Notes: r.Notes, SameAs: r.SameAs, Seconds: r.Took.Seconds()}
		if r.Exchange != nil {
			exchange := contract.Exchange(*r.Exchange)
			shown.Exchange = &exchange
		}
		tell(shown)
	})
	end := contract.TrialResult{Sum: &contract.TrialSum{Works: sum.Works, Fails: sum.Fails, NotThere: sum.NotThere, Causes: sum.Causes,
		Left: sum.Left}}
	if err != nil {
		end.Why = problem(err).Detail
	}
	tell(end)
}
