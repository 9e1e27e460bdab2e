package api

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"net"
	"net/http"
	"strings"

	"github.com/labstack/echo/v5"

	"nightjar/control/actor"
	"nightjar/control/people"
)

// whoKey is where a call has who makes it, as a people.Who.
const whoKey = "who"

// callKey is where a call has its own name, as the OpenAPI document has it.
const callKey = "call"

// whoOf is who makes a call.
func whoOf(c *echo.Context) people.Who {
	who, _ := c.Get(whoKey).(people.Who)
	return who
}

// localKey is the key of a context with the name of the user of this machine who made the
// connection by the socket.
type localKey struct{}

// localName is the name of who calls by the socket of this machine; empty: nobody does.
func localName(r *http.Request) string {
	name, _ := r.Context().Value(localKey{}).(string)
	return name
}

// addressOf is where a call comes from; empty: this machine, by the socket.
func addressOf(r *http.Request) string {
	if at := remoteOf(r); at.IsValid() {
		return at.String()
	}
	return ""
}

// What a call without a good credential is told.
const (
	signInFirst = "sign in first: nightjar sign-in, or send an access token (Authorization: Bearer TOKEN). On the " +
		"service's machine its user needs none"
	codeSignIn       = "sign-in"
	codeTooManyTries = "too-many-attempts"
)

// identify tells who makes a call: by its token, its session, or the socket that it comes
// by, in this order. One that is shown and not good is an error, whatever else is there.
func (s *Server) identify(r *http.Request) (people.Who, error) {
	if text := r.Header.Get("Authorization"); text != "" {
		token, isBearer := cutPrefixFold(text, "Bearer ")
		if !isBearer {
			return people.Who{}, failed(http.StatusUnauthorized, codeSignIn,
				"the Authorization of this call is of another kind: send Authorization: Bearer TOKEN")
		}
		return s.control.People.Token(token, addressOf(r))
	}
	if cookie, err := r.Cookie(s.cookieName(r)); err == nil {
		return s.control.People.Session(cookie.Value)
	}
	if name := localName(r); name != "" {
		return people.Who{Name: name, Role: people.Admin, Credential: people.Local}, nil
	}
	return people.Who{}, failed(http.StatusUnauthorized, codeSignIn, signInFirst)
}

func cutPrefixFold(s, prefix string) (rest string, ok bool) {
	if len(s) < len(prefix) || !strings.EqualFold(s[:len(prefix)], prefix) {
		return "", false
	}
	return s[len(prefix):], true
}

// allow lets those call who have a role, and those who belong to a team if the call is for
// teams too; what names the call. What they do ends with their credential.
func (s *Server) allow(what string, need people.Role, isForTeams bool, handle echo.HandlerFunc) echo.HandlerFunc {
	return func(c *echo.Context) error {
		r := c.Request()
		if need == people.Anyone {
			c.SetRequest(r.WithContext(actor.With(r.Context(), actor.Actor{Name: actor.Unknown, Address: addressOf(r)})))
			return handle(c)
		}
		who, err := s.identify(r)
		if err != nil {
			return err
		}
		ctx := actor.With(r.Context(), actor.Actor{Name: who.Name, Credential: who.Credential, Address: addressOf(r)})
		if !who.Role.May(need) {
			s.control.People.Refuse(ctx, what, "needs the role "+string(need))
			return failed(http.StatusForbidden, "role", "%s is %s %s, and this needs %s %s: ask an admin for a token with "+
				"that role", who.Name, article(who.Role), who.Role, article(need), need)
		}
		if len(who.Teams) > 0 && !isForTeams {
			s.control.People.Refuse(ctx, what, "is for the platform, and for no team")
			return failed(http.StatusForbidden, "team", "%s is of team %s, and this is about the whole mesh: ask an admin",
				who.Name, strings.Join(who.Teams, ", "))
		}
		var end context.CancelFunc
		if who.Expires.IsZero() {
			ctx, end = context.WithCancel(ctx)
		} else {
			ctx, end = context.WithDeadline(ctx, who.Expires)
		}
		defer end()
		if who.Ended != nil {
			defer context.AfterFunc(who.Ended, end)()
		}
		c.Set(whoKey, who)
		c.Set(callKey, what)
		c.SetRequest(r.WithContext(ctx))
		err = handle(c)
		if err != nil && who.Ended != nil && who.Ended.Err() != nil {
			return failed(http.StatusUnauthorized, codeSignIn, "the credential of this call was revoked meanwhile")
		}
		return err
	}
}

func article(r people.Role) string {
	if r == people.Viewer {
		return "a"
	}
	return "an"
}

// cookieName is the name of the cookie of a session. Browsers keep cookies by host and
// not by port, so the port is in the name: two services on a machine do not sign each
// other's people out. By TLS the name holds the browser to the host (RFC 6265bis, __Host-).
func (s *Server) cookieName(r *http.Request) string {
	name := "nightjar-" + s.port
	if r.TLS != nil {
		name = "__Host-" + name
	}
	return name
}

// setSession gives a browser its session; an empty secret takes it.
func (s *Server) setSession(c *echo.Context, secret string, life int) {
	http.SetCookie(c.Response(), &http.Cookie{
		Name: s.cookieName(c.Request()), Value: secret, Path: "/", MaxAge: life,
		HttpOnly: true, Secure: c.Request().TLS != nil, SameSite: http.SameSiteStrictMode,
	})
}

// peopleProblem is the answer to a credential that is not good; nil: it is another error.
func peopleProblem(err error) *failure {
	var f people.Failed
	switch {
	case !errors.As(err, &f):
		return nil
	case f.Many:
		return failed(http.StatusTooManyRequests, codeTooManyTries, "%s", f.Why)
	}
	return failed(http.StatusUnauthorized, codeSignIn, "%s", f.Why)
}

// Local gives the connections of a listener on a Unix socket that the users of this
// machine made who may act without a token. nameOf is the name of the user at the other
// end of a connection, or why they may not.
func Local(l net.Listener, nameOf func(net.Conn) (string, error)) net.Listener {
	return &localListener{l, nameOf}
}

type localListener struct {
	net.Listener
	nameOf func(net.Conn) (string, error)
}

// localConn is a connection of a user of this machine.
type localConn struct {
	net.Conn
	name string
}

func (l *localListener) Accept() (net.Conn, error) {
	for {
		conn, err := l.Listener.Accept()
		if err != nil {
			return nil, err
		}
		name, err := l.nameOf(conn)
		if err == nil {
			return &localConn{conn, name}, nil
		}
		fmt.Fprintf(conn, "HTTP/1.1 403 Forbidden\r\nConnection: close\r\nContent-Type: text/plain\r\n\r\n%s\n",
			cmp.Or(err.Error(), "not allowed"))
		conn.Close()
	}
}

// withLocal puts who made a connection into the context of its calls.
func withLocal(ctx context.Context, conn net.Conn) context.Context {
	if l, isLocal := conn.(*localConn); isLocal {
		return context.WithValue(ctx, localKey{}, l.name)
	}
	return ctx
}
