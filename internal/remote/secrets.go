package remote

import (
	"encoding/base64"
	"fmt"
	"net/http"
	"net/url"
	"os"
	"path/filepath"
	"runtime"
	"slices"
	"strings"
	"sync"

	"github.com/verdex-land/verdex/core/fault"
	"github.com/verdex-land/verdex/core/files"
)

// Secrets are credentials by host, and the parts of addresses that nobody is to see. Its zero value knows none.
type Secrets struct {
	getenv func(string) string
	once   sync.Once
	err    error

	mu        sync.Mutex
	headers   map[string]string // Authorization by host
	addresses map[string]string // whole addresses by those that are shown
	words     []string          // what is taken out of texts
}

// NewSecrets are the credentials of a user: those in VERDEX_CREDENTIALS, with lines such as "data.example bearer TOKEN" or "data.example basic USER PASSWORD", and
// those in a .netrc file. They are read when the first of them may be needed.
func NewSecrets(getenv func(string) string) *Secrets { return &Secrets{getenv: getenv} }

// Load reads the credentials, unless that was done.
func (s *Secrets) Load() error {
	s.once.Do(func() {
		if s.getenv != nil {
			s.err = s.load(s.getenv)
		}
	})
	return s.err
}

func (s *Secrets) load(getenv func(string) string) error {
	name := getenv("NETRC")
	if name == "" {
		if home, err := os.UserHomeDir(); err == nil {
			name = filepath.Join(home, ".netrc")
			if _, err := os.Stat(name); err != nil && runtime.GOOS == "windows" {
				name = filepath.Join(home, "_netrc")
			}
		}
	}
	if data, err := os.ReadFile(name); err == nil {
		s.netrc(string(data))
	}
	for i, line := range strings.FieldsFunc(getenv("VERDEX_CREDENTIALS"), func(r rune) bool { return r == '\n' || r == ';' }) {
		words := strings.Fields(line)
		switch {
		case len(words) == 0:
		case len(words) == 3 && strings.EqualFold(words[1], "bearer"):
			s.give(words[0], "Bearer "+words[2], words[2])
		case len(words) == 4 && strings.EqualFold(words[1], "basic"):
			s.give(words[0], basic(words[2], words[3]), words[3])
		default:
			return fault.Errorf("VERDEX_CREDENTIALS: line %d is neither HOST bearer TOKEN nor HOST basic USER PASSWORD: correct it", i+1)
		}
	}
	return nil
}

func basic(user, password string) string {
	return "Basic " + base64.StdEncoding.EncodeToString([]byte(user+":"+password))
}

// give notes the credentials of a host.
func (s *Secrets) give(host, header string, words ...string) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.headers == nil {
		s.headers = map[string]string{}
	}
	s.headers[strings.ToLower(host)] = header
	_, token, _ := strings.Cut(header, " ")
	s.words = append(append(s.words, words...), token)
}

// netrc reads the machines of a .netrc file.
func (s *Secrets) netrc(text string) {
	words := strings.Fields(text)
	var host, user, password string
	done := func() {
		if host != "" && password != "" {
			s.give(host, basic(user, password), password)
		}
		host, user, password = "", "", ""
	}
	for i := 0; i < len(words); i++ {
		next := ""
		if i+1 < len(words) {
			next = words[i+1]
		}
		switch words[i] {
		case "machine":
			done()
			host = next
			i++
		case "default": // its password is for any host, which is too many
			done()
		case "login":
			user = next
			i++
		case "password":
			password = next
			i++
		case "account":
			i++
		case "macdef": // to the next empty line, which words do not show
			done()
			return
		}
	}
	done()
}

// secretParts are in the names of parameters of addresses whose values are secret.
var secretParts = []string{"token", "key", "sig", "secret", "pass", "credential", "auth"}

// Hide returns an address without its secrets: the user and password, and the values of parameters such as a token or a signature. Requests
// for what it returns are made with them.
func (s *Secrets) Hide(name string) string { return s.hide(name, false) }

// pageTokens are parameters by which servers name a page of their answers, which is no secret.
var pageTokens = []string{"token", "page_token", "pagetoken", "next_token", "nexttoken", "continuationtoken"}

// hide hides what is secret in an address; named says that a server has named it, and not the user.
func (s *Secrets) hide(name string, named bool) string {
	if !files.IsURL(name) {
		return name
	}
	plain, fragment := name, "" // a band or a layer stands behind #
	if i := strings.LastIndexByte(name, '#'); i >= 0 {
		plain, fragment = name[:i], name[i:]
	}
	u, err := url.Parse(plain)
	if err != nil {
		return name
	}
	changed := false
	if u.User != nil {
		password, _ := u.User.Password()
		s.give(u.Host, basic(u.User.Username(), password), password)
		u.User, changed = nil, true
	}
	whole := u.String()
	if values := s.hideValues(u, named); values {
		changed = true
	}
	if !changed {
		return name
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.addresses == nil {
		s.addresses = map[string]string{}
	}
	shown := u.String()
	for n := 2; s.addresses[shown] != "" && s.addresses[shown] != whole; n++ { // another file, whose name differs in what is hidden
		shown = u.String() + fmt.Sprintf("&-=%d", n)
	}
	s.addresses[shown] = whole
	return shown + fragment
}

// hideValues takes the values of secret parameters out of an address.
func (s *Secrets) hideValues(u *url.URL, named bool) (changed bool) {
	if u.RawQuery == "" {
		return false
	}
	pairs := strings.Split(u.RawQuery, "&")
	for i, p := range pairs {
		key, value, _ := strings.Cut(p, "=")
		if value == "" || value == "-" || !slices.ContainsFunc(secretParts, func(part string) bool { return strings.Contains(strings.ToLower(key), part) }) {
			continue
		}
		if named && slices.Contains(pageTokens, strings.ToLower(key)) && !s.knows(value) {
			continue
		}
		s.mu.Lock()
		if plain, err := url.QueryUnescape(value); err == nil {
			s.words = append(s.words, plain)
		}
		s.words = append(s.words, value)
		s.mu.Unlock()
		pairs[i], changed = key+"=-", true
	}
	u.RawQuery = strings.Join(pairs, "&")
	return changed
}

// knows reports whether a value of an address is one of the secrets.
func (s *Secrets) knows(value string) bool {
	plain, err := url.QueryUnescape(value)
	s.mu.Lock()
	defer s.mu.Unlock()
	return slices.Contains(s.words, value) || err == nil && slices.Contains(s.words, plain)
}

// lost reports whether an address lacks a secret that was taken out of it elsewhere, such as by a run before.
func (s *Secrets) lost(name string) bool {
	s.mu.Lock()
	_, known := s.addresses[name]
	s.mu.Unlock()
	u, err := url.Parse(name)
	return !known && err == nil && slices.ContainsFunc(strings.Split(u.RawQuery, "&"), func(p string) bool {
		key, value, _ := strings.Cut(p, "=")
		return value == "-" && slices.ContainsFunc(secretParts, func(part string) bool { return strings.Contains(strings.ToLower(key), part) })
	})
}

// HasSecret reports whether an address holds what nobody is to see.
func HasSecret(name string) bool { return new(Secrets).Hide(name) != name }

// address is the whole address of what is shown.
func (s *Secrets) address(name string) string {
	s.mu.Lock()
	defer s.mu.Unlock()
	if whole, ok := s.addresses[name]; ok {
		return whole
	}
	return name
}

// clean takes secrets out of a text.
func (s *Secrets) clean(text string) string {
	s.mu.Lock()
	defer s.mu.Unlock()
	for _, w := range s.words {
		if len(w) > 3 {
			text = strings.ReplaceAll(text, w, "-")
		}
	}
	return text
}

// String shows no secret, whoever prints it.
func (s *Secrets) String() string { return fmt.Sprintf("credentials of %d hosts", len(s.headers)) }

// GoString is the same.
func (s *Secrets) GoString() string { return s.String() }

// authorised gives requests the credentials of their host, and of no other one: a host that another one redirects to gets its own.
type authorised struct {
	next    http.RoundTripper
	secrets *Secrets
}

// RoundTrip implements [http.RoundTripper].
func (a *authorised) RoundTrip(r *http.Request) (*http.Response, error) {
	a.secrets.mu.Lock()
	header := a.secrets.headers[strings.ToLower(r.URL.Host)]
	usual := map[string]string{"http": "80", "https": "443"}[r.URL.Scheme]
	if port := r.URL.Port(); header == "" && (port == "" || port == usual) { // a host without a port is that of the usual one
		if header = a.secrets.headers[strings.ToLower(r.URL.Hostname())]; header == "" {
			header = a.secrets.headers[strings.ToLower(r.URL.Hostname())+":"+usual]
		}
	}
	a.secrets.mu.Unlock()
	if header == "" && r.Header.Get("Authorization") == "" {
		return a.next.RoundTrip(r)
	}
	r = r.Clone(r.Context())
	r.Header.Del("Authorization")
	if header != "" {
		r.Header.Set("Authorization", header)
	}
	return a.next.RoundTrip(r)
}
