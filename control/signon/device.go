package signon

import (
	"context"
	"crypto/rand"
	"errors"

	"golang.org/x/oauth2"

	"nightjar/control/problem"
	"nightjar/store"
)

// device is a command that waits for somebody to allow it.
type device struct {
	auth *oauth2.DeviceAuthResponse
	busy bool
}

// Device begins the sign-in of a command. handle is for Await, and nobody else may know it.
func (s *SignOn) Device(ctx context.Context) (handle string, auth *oauth2.DeviceAuthResponse, err error) {
	p, err := s.provider(ctx)
	if err != nil {
		return "", nil, err
	}
	if p.Endpoint().DeviceAuthURL == "" {
		return "", nil, problem.Invalid("%s knows no sign-in of commands (device flow): use an access token", s.Provider())
	}
	s.mu.Lock()
	s.forget()
	isFull := len(s.devices) >= maxDevices
	s.mu.Unlock()
	if isFull || !s.begun.AllowN(s.Now(), 1) {
		return "", nil, problem.Later("too many commands wait to be allowed: try again in a minute")
	}
	auth, err = s.config(p).DeviceAuth(s.clientIn(ctx))
	if err != nil {
		return "", nil, s.exchangeFailed(err)
	}
	handle = rand.Text() + rand.Text()
	s.mu.Lock()
	defer s.mu.Unlock()
	s.devices[handle] = &device{auth: auth}
	return handle, auth, nil
}

// forget forgets devices whose time is over. The caller holds mu.
func (s *SignOn) forget() {
	for handle, d := range s.devices {
		if !d.busy && !d.auth.Expiry.IsZero() && s.Now().After(d.auth.Expiry) {
			delete(s.devices, handle)
		}
	}
}

// ErrPending means that nobody has allowed a command yet: await it again.
var ErrPending = errors.New("nobody has allowed it yet")

// Await waits, for a while, until somebody allows a command at the provider.
func (s *SignOn) Await(ctx context.Context, handle, program string) (secret string, session store.Session, err error) {
	s.mu.Lock()
	d := s.devices[handle]
	isFree := d != nil && !d.busy
	if isFree {
		d.busy = true
	}
	s.mu.Unlock()
	switch {
	case d == nil:
		return "", session, refuse(CodeExpired, "this sign-in was not begun here, or too long ago: begin again")
	case !isFree:
		return "", session, problem.Running("this sign-in is awaited already")
	}
	isOver := true
	defer func() {
		s.mu.Lock()
		defer s.mu.Unlock()
		if d.busy = false; isOver {
			delete(s.devices, handle)
		}
	}()
	p, err := s.provider(ctx)
	if err != nil {
		isOver = false
		return "", session, err
	}
	within, stop := context.WithTimeout(s.clientIn(ctx), awaitTime)
	defer stop()
	token, err := s.config(p).DeviceAccessToken(within, d.auth)
	switch {
	case err != nil && within.Err() != nil && (d.auth.Expiry.IsZero() || s.Now().Before(d.auth.Expiry)):
		isOver = false
		return "", session, ErrPending
	case err != nil && within.Err() != nil:
		return "", session, refuse(CodeExpired, "nobody allowed it in time: begin again")
	case err != nil:
		return "", session, s.exchangeFailed(err)
	}
	return s.signIn(ctx, p, token, "", program)
}
