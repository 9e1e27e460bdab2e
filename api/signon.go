package api

import (
	"errors"
	"net/http"
	"net/url"

	"github.com/labstack/echo/v5"

	"nightjar/api/model"
	"nightjar/control/actor"
	"nightjar/control/people"
	"nightjar/control/problem"
	"nightjar/control/signon"
)

// signOnOperations sign commands in by a provider of identities; browsers are sent there
// by the paths of signOnPages.
func (s *Server) signOnOperations() []Operation {
	return []Operation{
		act("/sign-on/devices", "beginDeviceSignIn",
			"Begin the sign-in of a command, which somebody allows with a browser", s.beginDevice).needing(people.Anyone),
		send(http.MethodPost, "/sign-on/devices/await", "awaitDeviceSignIn",
			"Wait, for 45 s at most, until somebody has allowed a command", s.awaitDevice).needing(people.Anyone),
	}
}

// signOnPages are where browsers go to the provider, and come back from it.
func (s *Server) signOnPages() {
	s.echo.GET("/sign-on", s.allow("signOn", people.Anyone, true, s.goSignOn))
	s.echo.GET(signon.CallbackPath, s.allow("signOn", people.Anyone, true, s.backFromSignOn))
}

func (s *Server) signOn() (*signon.SignOn, error) {
	if s.control.SignOn == nil {
		return nil, problem.Invalid("this service has no provider of identities: sign in with an access token")
	}
	return s.control.SignOn, nil
}

func (s *Server) beginDevice(c *echo.Context) (model.DeviceSignIn, error) {
	on, err := s.signOn()
	if err != nil {
		return model.DeviceSignIn{}, err
	}
	handle, auth, err := on.Device(c.Request().Context())
	if err != nil {
		return model.DeviceSignIn{}, err
	}
	return model.DeviceSignIn{
		Handle: handle, URL: auth.VerificationURI, Code: auth.UserCode, CompleteURL: auth.VerificationURIComplete,
		Expires: auth.Expiry,
	}, nil
}

func (s *Server) awaitDevice(c *echo.Context, in model.AwaitRequest) (model.DeviceToken, error) {
	on, err := s.signOn()
	if err != nil {
		return model.DeviceToken{}, err
	}
	secret, _, err := on.Await(c.Request().Context(), in.Handle, c.Request().UserAgent())
	switch {
	case errors.Is(err, signon.ErrPending):
		return model.DeviceToken{IsPending: true}, nil
	case err != nil:
		return model.DeviceToken{}, s.denied(c, err)
	}
	return model.DeviceToken{Token: people.SessionText(secret)}, nil
}

// denied logs a sign-in that a provider does not rightly vouch for, and is its answer.
func (s *Server) denied(c *echo.Context, err error) error {
	var no signon.Refused
	if !errors.As(err, &no) {
		return err
	}
	s.control.People.Deny(actor.Of(c.Request().Context()).Address, no.Why)
	return failed(http.StatusForbidden, no.Code, "%s", no.Why)
}

// signOnCookie carries what a browser has to bring back from the provider. It is sent when
// the provider sends the browser back, so it is not strict; it signs nobody in.
func (s *Server) signOnCookie(r *http.Request, value string, life int) *http.Cookie {
	return &http.Cookie{
		Name: "nightjar-sign-on-" + s.port, Value: value, Path: "/sign-on", MaxAge: life,
		HttpOnly: true, Secure: r.TLS != nil, SameSite: http.SameSiteLaxMode,
	}
}

const signOnLife = 600 // seconds that signing in at the provider may take

func (s *Server) goSignOn(c *echo.Context) error {
	on, err := s.signOn()
	var target, kept string
	if err == nil {
		target, kept, err = on.Begin(c.Request().Context())
	}
	if err != nil {
		return s.signInPage(c, err)
	}
	http.SetCookie(c.Response(), s.signOnCookie(c.Request(), kept, signOnLife))
	c.Response().Header().Set("Cache-Control", "no-store")
	return c.Redirect(http.StatusSeeOther, target)
}

func (s *Server) backFromSignOn(c *echo.Context) error {
	on, err := s.signOn()
	if err != nil {
		return s.signInPage(c, err)
	}
	r := c.Request()
	back := signon.Return{
		State: c.QueryParam("state"), Code: c.QueryParam("code"), Error: c.QueryParam("error"), Issuer: c.QueryParam("iss"),
		Program: r.UserAgent(),
	}
	if kept, err := r.Cookie(s.signOnCookie(r, "", 0).Name); err == nil {
		back.Kept = kept.Value
	}
	http.SetCookie(c.Response(), s.signOnCookie(r, "", -1))
	c.Response().Header().Set("Cache-Control", "no-store")
	secret, session, err := on.Finish(r.Context(), back)
	if err != nil {
		return s.signInPage(c, s.denied(c, err))
	}
	s.setSession(c, secret, secondsUntil(session.Expires))
	return c.Redirect(http.StatusSeeOther, "/")
}

// signInPage sends a browser to the page for signing in, which has words for the code.
func (s *Server) signInPage(c *echo.Context, err error) error {
	f := asProblem(err)
	if f.Status >= 500 {
		s.log.Warn("nobody can sign in by the provider of identities", "error", err)
	}
	return c.Redirect(http.StatusSeeOther, "/sign-in?problem="+url.QueryEscape(f.Code))
}
