package standin

import (
	"crypto/ed25519"
	"crypto/rand"
	"crypto/x509"
	"encoding/json"
	"encoding/pem"
	"errors"
	"fmt"
	"net/http"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"sync"

	"github.com/golang-jwt/jwt/v5"
)

// Administrator is who a service key acts for, unless it names a member.
const Administrator = "administrator@fenmere.example"

// organisation are the members of Sedge's organisation, and the service key of its
// administrator (RFC 7523).
type organisation struct {
	mu      sync.Mutex
	members []member
	key     ed25519.PrivateKey
}

// member is one of the organisation; each has an area of its own.
type member struct {
	ID   string `json:"member_id"`
	Mail string `json:"mail"`
}

// root is the id of the folder that everything of a member is in.
func (m member) root() string { return "root-" + m.ID }

const (
	serviceIssuer = "service-fenmere"
	serviceKeyID  = "k1"
	memberPage    = 25
)

// serviceKey is the file that the administrator is handed out.
type serviceKey struct {
	Issuer     string `json:"issuer"`
	KeyID      string `json:"key_id"`
	PrivateKey string `json:"private_key"` // PEM
}

// openOrganisation makes an organisation of 40 members, with the service key that is kept
// in a folder.
func openOrganisation(dir string) (*organisation, error) {
	o := &organisation{}
	for i, role := range []string{"surveyor", "ranger", "hydrologist", "office"} {
		for n := range 10 {
			o.members = append(o.members, member{fmt.Sprintf("m%02d", i*10+n+1), fmt.Sprintf("%s-%02d@fenmere.example", role, n+1)})
		}
	}
	path := filepath.Join(dir, "service-key.json")
	if text, err := os.ReadFile(path); err == nil {
		var kept serviceKey
		if err := json.Unmarshal(text, &kept); err != nil {
			return nil, err
		}
		block, _ := pem.Decode([]byte(kept.PrivateKey))
		if block == nil {
			return nil, errors.New("the service key is damaged")
		}
		key, err := x509.ParsePKCS8PrivateKey(block.Bytes)
		if err != nil {
			return nil, err
		}
		o.key, _ = key.(ed25519.PrivateKey)
		return o, nil
	}
	var err error
	if _, o.key, err = ed25519.GenerateKey(rand.Reader); err != nil {
		return nil, err
	}
	text, err := o.text()
	if err != nil {
		return nil, err
	}
	return o, os.WriteFile(path, text, 0o600)
}

func (o *organisation) text() ([]byte, error) {
	der, err := x509.MarshalPKCS8PrivateKey(o.key)
	if err != nil {
		return nil, err
	}
	return json.Marshal(serviceKey{serviceIssuer, serviceKeyID, string(pem.EncodeToMemory(&pem.Block{Type: "PRIVATE KEY", Bytes: der}))})
}

// ServiceKey is the file of the service key that the administrator is handed out.
func (s *Sedge) ServiceKey() []byte {
	text, err := s.org.text()
	if err != nil {
		panic(err) // a key of this program's making
	}
	return text
}

// Members are the addresses of the organisation's members.
func (s *Sedge) Members() (mails []string) {
	s.org.mu.Lock()
	defer s.org.mu.Unlock()
	for _, one := range s.org.members {
		mails = append(mails, one.Mail)
	}
	return mails
}

// Join adds a member.
func (s *Sedge) Join(mail string) {
	s.org.mu.Lock()
	defer s.org.mu.Unlock()
	s.org.members = append(s.org.members, member{fmt.Sprintf("m%02d", len(s.org.members)+50), mail})
}

// Leave takes a member away: it is not listed any more, and nobody acts for it.
func (s *Sedge) Leave(mail string) {
	s.org.mu.Lock()
	defer s.org.mu.Unlock()
	s.org.members = slices.DeleteFunc(slices.Clone(s.org.members), func(one member) bool { return one.Mail == mail })
}

// of finds a member by its address.
func (o *organisation) of(mail string) (member, bool) {
	o.mu.Lock()
	defer o.mu.Unlock()
	i := slices.IndexFunc(o.members, func(one member) bool { return one.Mail == mail })
	if i < 0 {
		return member{}, false
	}
	return o.members[i], true
}

// asserted returns for whom an assertion acts (RFC 7523, section 3).
func (o *organisation) asserted(assertion, audience string) (user string, err error) {
	token, err := jwt.Parse(assertion, func(token *jwt.Token) (any, error) {
		if token.Header["kid"] != serviceKeyID {
			return nil, errors.New("the key is not known")
		}
		return o.key.Public(), nil
	}, jwt.WithValidMethods([]string{"EdDSA"}), jwt.WithIssuer(serviceIssuer), jwt.WithAudience(audience), jwt.WithExpirationRequired())
	if err != nil {
		return "", err
	}
	subject, err := token.Claims.GetSubject()
	if err != nil || subject == "" || subject == Administrator {
		return Administrator, nil
	}
	if _, ok := o.of(subject); !ok {
		return "", fmt.Errorf("%s is not a member", subject)
	}
	return subject, nil
}

// listMembers answers GET /v2/organisation/members, in pages.
func (s *Sedge) listMembers(w http.ResponseWriter, r *http.Request) {
	if r.Context().Value(userKey{}) != Administrator {
		sedgeProblem(w, http.StatusForbidden, "not_administrator", "only the administrator's service key sees the members")
		return
	}
	s.org.mu.Lock()
	defer s.org.mu.Unlock()
	from, _ := strconv.Atoi(r.URL.Query().Get("page_token"))
	if from < 0 || from > len(s.org.members) {
		sedgeProblem(w, http.StatusBadRequest, "invalid", "the page token is not one of ours")
		return
	}
	to := min(from+memberPage, len(s.org.members))
	page := map[string]any{"members": append([]member{}, s.org.members[from:to]...)}
	if to < len(s.org.members) {
		page["next_page_token"] = strconv.Itoa(to)
	}
	answer(w, http.StatusOK, page)
}
