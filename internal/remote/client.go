package remote

import (
	"context"
	"errors"
	"io"
	"net"
	"net/http"
	"net/url"
	"strconv"
	"time"

	"github.com/hashicorp/go-retryablehttp"
	"github.com/verdex-land/verdex/core/fault"
)

// newClient makes the client: it keeps connections, retries what may succeed later, and gives credentials to the hosts that they are for.
func (s *System) newClient() *retryablehttp.Client {
	transport := s.o.Transport
	if transport == nil {
		t := http.DefaultTransport.(*http.Transport).Clone()
		t.MaxIdleConnsPerHost, t.MaxConnsPerHost = mostFlying, 2*mostFlying
		t.DisableCompression = true // parts of files are wanted as they are
		t.ResponseHeaderTimeout = s.o.Idle
		t.DialContext = (&net.Dialer{Timeout: s.o.Idle, KeepAlive: 30 * time.Second}).DialContext
		transport = t
	}
	r := retryablehttp.NewClient()
	r.Logger = nil
	r.RetryMax = s.o.Tries - 1
	r.RetryWaitMin, r.RetryWaitMax = 250*time.Millisecond, 10*time.Second
	r.ErrorHandler = retryablehttp.PassthroughErrorHandler
	r.CheckRetry = func(ctx context.Context, resp *http.Response, err error) (bool, error) {
		var refused *refusal
		if errors.As(err, &refused) {
			return false, err
		}
		return retryablehttp.DefaultRetryPolicy(ctx, resp, err)
	}
	r.Backoff = func(least, most time.Duration, attempt int, resp *http.Response) time.Duration {
		return min(retryablehttp.DefaultBackoff(least, most, attempt, resp), time.Minute) // a server may ask for hours
	}
	r.HTTPClient = &http.Client{Transport: &authorised{transport, s.o.Secrets}, CheckRedirect: redirect}
	return r
}

// refusal is an error that no second try mends.
type refusal struct{ text string }

func (r *refusal) Error() string { return r.text }

// redirect follows a server that names another place, a few times and not from a secure connection to another one.
func redirect(r *http.Request, via []*http.Request) error {
	if len(via) >= 10 {
		return &refusal{"the server redirects in a circle"}
	}
	if via[len(via)-1].URL.Scheme == "https" && r.URL.Scheme != "https" {
		return &refusal{"the server redirects from https to " + r.URL.Scheme}
	}
	r.Header.Del("Referer")
	return nil
}

// get asks for a file, or for a part of it.
func (s *System) get(ctx context.Context, o *object, header http.Header) (*http.Response, error) {
	if s.o.Offline {
		return nil, offline(o.name)
	}
	if err := s.o.Secrets.Load(); err != nil {
		return nil, err
	}
	r, err := retryablehttp.NewRequestWithContext(ctx, http.MethodGet, s.o.Secrets.address(o.name), nil)
	if err != nil {
		return nil, fault.Errorf("%s: it is not an address: check it", o.name)
	}
	r.Header = header
	r.Header.Set("User-Agent", s.o.Agent)
	r.Header.Set("Accept-Encoding", "identity")
	s.mu.Lock()
	s.fetched.Requests++
	s.mu.Unlock()
	resp, err := s.client.Do(r)
	if err != nil {
		if resp != nil {
			resp.Body.Close()
		}
		if s.ctx.Err() != nil {
			return nil, s.ctx.Err()
		}
		return nil, fault.Errorf("%s: it cannot be fetched (%s): check the address and the connection", o.name, s.reason(err))
	}
	return resp, nil
}

func offline(name string) error {
	return fault.Errorf("%s: it is not in the cache, and --offline asks no server: leave out --offline", name)
}

// reason words what went wrong with a request, without the address, which may hold secrets.
func (s *System) reason(err error) string {
	var refused *refusal
	if errors.As(err, &refused) {
		return refused.text
	}
	var of *url.Error
	for errors.As(err, &of) {
		err = of.Err
	}
	var timeout net.Error
	if errors.As(err, &timeout) && timeout.Timeout() || errors.Is(err, context.DeadlineExceeded) || errors.Is(err, context.Canceled) {
		return "the server does not answer"
	}
	if errors.Is(err, io.EOF) || errors.Is(err, io.ErrUnexpectedEOF) {
		return "the connection was closed"
	}
	return s.o.Secrets.clean(err.Error())
}

// status words an answer that is no file.
func (s *System) status(name string, resp *http.Response) error {
	text := strconv.Itoa(resp.StatusCode)
	if t := http.StatusText(resp.StatusCode); t != "" {
		text += " " + t
	}
	switch resp.StatusCode {
	case http.StatusNotFound, http.StatusGone:
		return missing(name, text)
	case http.StatusUnauthorized, http.StatusForbidden, http.StatusProxyAuthRequired:
		return fault.Errorf("%s: the server refuses it (%s): give credentials for the host in VERDEX_CREDENTIALS or in .netrc", name, text)
	}
	return fault.Errorf("%s: the server answers %s: try again later, or check the address", name, text)
}
