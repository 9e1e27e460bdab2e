package api

import (
	"context"
	"encoding/json"
	"net/http"
	"strings"
	"time"

	"github.com/labstack/echo/v5"

	"nightjar/api/from"
	"nightjar/api/model"
	"nightjar/control/people"
)

// peopleOperations are about who uses the service, and what they did.
func (s *Server) peopleOperations() []Operation {
	return []Operation{
		get("/sign-in", "signInOptions", "How people can sign in", func(c *echo.Context) (model.SignInOptions, error) {
			out := model.SignInOptions{Program: s.control.Program, IsLocal: localName(c.Request()) != ""}
			if s.control.SignOn != nil {
				out.SignOn = s.control.SignOn.Provider()
			}
			return out, nil
		}).needing(people.Anyone),
		get("/who", "who", "Who calls, and what they may do", s.who).forTeams(),
		get("/sessions", "sessions", "Who is signed in to the console: of an admin all, of others their own",
			s.sessions).forTeams(),
		create("/sessions", "signIn", "Begin a session of the console, which a cookie carries", s.signIn).needing(people.Anyone),
		create("/sessions/links", "createSignInLink", "Make a link that signs a browser in once, as who calls", s.signInLink).
			needing(people.Viewer).forTeams(),
		remove("/sessions/:session", "endSession",
			"End a session, one's own or, of an admin, any; current is the session of the call", s.endSession).
			needing(people.Viewer).forTeams(),
		get("/access-tokens", "accessTokens", "Access tokens, the newest first",
			func(*echo.Context) (model.AccessTokenList, error) { return s.accessTokens(), nil }).needing(people.Admin),
		create("/access-tokens", "createAccessToken", "Make an access token; its text is shown this once",
			s.createAccessToken).needing(people.Admin),
		remove("/access-tokens/:token", "revokeAccessToken",
			"Revoke an access token, by its id or name, with its sessions and all that is done by them",
			func(c *echo.Context) (model.AccessTokenList, error) {
				err := s.control.People.RevokeToken(c.Request().Context(), c.Param("token"))
				return s.accessTokens(), err
			}).needing(people.Admin),
		get("/activity", "activity", "What people did and what proxies reported, newest first", s.activity,
			append([]Param{
				{"service", "string", "only what concerns this service"},
				{"site", "string", "only what happened at this site, or to it"},
				{"who", "string", "only what somebody did or reported whose name has this part"},
				{"what", "string", "only events whose name begins so, such as publish or sign-in"},
				{"about", "string", "only rules (and releases), drills (and trials), proxies, people or guards (and health)"},
				sinceParam,
				{"after", "integer", "only entries above this number"},
			}, pageParams...)...).forTeams(),
		get("/activity/chain", "verifyActivity",
			"Whether each entry of the activity log follows the one before it, by its hash",
			func(c *echo.Context) (model.ActivityChain, error) {
				return s.control.Journal.Verify(c.Request().Context())
			}).forTeams(),
		{
			Method:  http.MethodGet,
			Path:    "/activity/export",
			ID:      "exportActivity",
			Summary: "The activity log as lines of JSON, the oldest entry first",
			Params:  []Param{sinceParam},
			Out:     model.ActivityEntry{},
			Media:   "application/x-ndjson",
			Status:  http.StatusOK,
			Needs:   people.Viewer,
			handle:  s.exportActivity,
		},
	}
}

var sinceParam = Param{"since", "integer", "only entries from this time on, in seconds since 1970"}

func (s *Server) who(c *echo.Context) (model.Who, error) {
	who := whoOf(c)
	out := model.Who{Name: who.Name, Role: string(who.Role), Teams: who.Teams, Credential: who.Credential}
	if !who.Expires.IsZero() {
		out.Expires = &who.Expires
	}
	return out, nil
}

func (s *Server) sessions(c *echo.Context) (model.SessionList, error) {
	who := whoOf(c)
	whose := who.Name
	if who.Role.May(people.Admin) {
		whose = ""
	}
	return model.SessionList{Sessions: from.Sessions(s.control.People.Sessions(whose), who.Credential)}, nil
}

func (s *Server) signIn(c *echo.Context, in model.SignInRequest) (model.Session, error) {
	if (in.Token == "") == (in.Code == "") {
		return model.Session{},
			failed(http.StatusUnprocessableEntity, "invalid", "sign in with either a token or the code of a link")
	}
	begin, text := s.control.People.SignInByToken, in.Token
	if in.Code != "" {
		begin, text = s.control.People.SignInByLink, in.Code
	}
	secret, session, err := begin(c.Request().Context(), text, c.Request().UserAgent())
	if err != nil {
		return model.Session{}, err
	}
	s.setSession(c, secret, secondsUntil(session.Expires))
	return from.Session(session, "session "+session.ID), nil
}

// secondsUntil is how many seconds a time is away.
func secondsUntil(at time.Time) int { return int(time.Until(at).Seconds()) }

func (s *Server) signInLink(c *echo.Context, in model.SignInLinkRequest) (model.SignInLink, error) {
	if in.ForSeconds < 0 {
		return model.SignInLink{}, failed(http.StatusUnprocessableEntity, "invalid", "forSeconds: %d is below 0", in.ForSeconds)
	}
	return s.SignInLink(whoOf(c), time.Duration(in.ForSeconds)*time.Second)
}

// SignInLink makes a link that signs a browser in once, as who. life is how long it is
// good; 0: 10 minutes.
func (s *Server) SignInLink(who people.Who, life time.Duration) (model.SignInLink, error) {
	code, expires, err := s.control.People.Link(who, life)
	return model.SignInLink{Path: "/sign-in#" + code, Expires: expires}, err
}

func (s *Server) endSession(c *echo.Context) (model.SessionList, error) {
	who, id := whoOf(c), c.Param("session")
	whose := who.Name
	if who.Role.May(people.Admin) {
		whose = ""
	}
	if id == "current" {
		id, _ = strings.CutPrefix(who.Credential, "session ")
		s.setSession(c, "", -1)
	}
	if err := s.control.People.EndSession(c.Request().Context(), id, whose); err != nil {
		return model.SessionList{}, err
	}
	return model.SessionList{Sessions: from.Sessions(s.control.People.Sessions(whose), who.Credential)}, nil
}

func (s *Server) accessTokens() model.AccessTokenList {
	return model.AccessTokenList{Tokens: from.AccessTokens(s.control.People.Tokens())}
}

func (s *Server) createAccessToken(c *echo.Context, in model.AccessTokenRequest) (model.AccessToken, error) {
	text, t, err := s.control.People.CreateToken(c.Request().Context(), people.Wanted{
		Name:  in.Name,
		Role:  people.Role(in.Role),
		Teams: in.Teams,
		For:   time.Duration(in.ForSeconds) * time.Second,
	})
	out := from.AccessToken(t)
	out.Token = text
	return out, err
}

func (s *Server) activity(c *echo.Context) (model.ActivityPage, error) {
	since, err := sinceOf(c)
	if err != nil {
		return model.ActivityPage{}, err
	}
	after, err := number(c, "after", 0, 0, 1<<31)
	if err != nil {
		return model.ActivityPage{}, err
	}
	read := func(ctx context.Context, before uint, limit int) ([]model.ActivityEntry, error) {
		return s.control.Journal.List(ctx, model.ActivityFilter{
			Service: c.QueryParam("service"),
			Site:    c.QueryParam("site"),
			Who:     c.QueryParam("who"),
			What:    c.QueryParam("what"),
			About:   c.QueryParam("about"),
			Since:   since,
			After:   uint(after),
			Before:  before,
			Limit:   limit,
		})
	}
	list, next, err := readPage(c, read, func(e *model.ActivityEntry) uint { return e.Number })
	return model.ActivityPage{Activity: activityFor(list, whoOf(c), s.scopeOf(c)), Next: next}, err
}

// sinceOf reads from when on entries are asked for; zero: from the first.
func sinceOf(c *echo.Context) (time.Time, error) {
	n, err := number(c, "since", 0, 0, 1<<40)
	if err != nil || n == 0 {
		return time.Time{}, err
	}
	return time.Unix(int64(n), 0), nil
}

// exportActivity writes the activity log as lines.
func (s *Server) exportActivity(c *echo.Context) error {
	since, err := sinceOf(c)
	if err != nil {
		return err
	}
	ctx, end, err := s.stream(c, &s.people)
	if err != nil {
		return err
	}
	defer end()
	w := c.Response()
	w.Header().Set("Content-Type", "application/x-ndjson")
	out, lines := http.NewResponseController(w), json.NewEncoder(w)
	err = s.control.Journal.Each(ctx, since, func(e model.ActivityEntry) bool {
		out.SetWriteDeadline(time.Now().Add(writeTime))
		return lines.Encode(e) == nil
	})
	if err != nil && w.(*echo.Response).Committed {
		panic(http.ErrAbortHandler) // what there is of it must not look like all of it
	}
	return err
}
