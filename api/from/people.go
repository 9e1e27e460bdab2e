package from

import (
	"time"

	"nightjar/api/model"
	"nightjar/store"
)

// AccessToken is an access token, without its text.
func AccessToken(t store.AccessToken) model.AccessToken {
	return model.AccessToken{
		ID: t.ID, Name: t.Name, Role: t.Role, Teams: t.Teams, By: t.By,
		Created: t.Created, Expires: t.Expires, Used: moment(t.Used),
	}
}

// AccessTokens are the access tokens of a list.
func AccessTokens(in []store.AccessToken) []model.AccessToken { return list(in, AccessToken) }

// Sessions are sessions; current is the credential of the one of a call.
func Sessions(in []store.Session, current string) []model.Session {
	return list(in, func(s store.Session) model.Session { return Session(s, current) })
}

// Session is a session; current: see Sessions.
func Session(s store.Session, current string) model.Session {
	return model.Session{
		ID: s.ID, Name: s.Name, Role: s.Role, Teams: s.Teams, Of: s.Of, Address: s.Address, Program: s.Program,
		Created: s.Created, Expires: s.Expires, Used: s.Used, IsCurrent: "session "+s.ID == current,
	}
}

// moment is a time that may be absent.
func moment(at time.Time) *time.Time {
	if at.IsZero() {
		return nil
	}
	return &at
}
