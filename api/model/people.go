package model

import "time"

// Who is who calls, as the credential of the call says.
type Who struct {
	Name       string     `json:"name"`
	Role       string     `json:"role"`              // viewer, editor or admin
	Teams      []string   `json:"teams,omitempty"`   // that they belong to; absent: the platform, which sees all
	Credential string     `json:"credential"`        // local, token ID or session ID
	Expires    *time.Time `json:"expires,omitempty"` // when the credential ends; absent: it does not
}

// SignInOptions is how people can sign in.
type SignInOptions struct {
	Program string `json:"program"`          // version of the service
	SignOn  string `json:"signOn,omitempty"` // host of the provider of identities; absent: there is none
	// whether whoever reads this may use the socket of the service's machine
	IsLocal bool `json:"isLocal"`
}

// SignInRequest begins a session with either an access token or the code of a link.
type SignInRequest struct {
	Token string `json:"token,omitempty"`
	Code  string `json:"code,omitempty"`
}

// SignInLinkRequest asks for a link that signs a browser in once.
type SignInLinkRequest struct {
	ForSeconds int64 `json:"forSeconds,omitempty"` // how long it is good; 600 when absent, at most 86400
}

// SignInLink signs a browser in once, as whoever asked for it.
type SignInLink struct {
	Path    string    `json:"path"` // below the address of the console, with the code after the #
	Expires time.Time `json:"expires"`
}

// Session is somebody who is signed in to the console.
type Session struct {
	ID        string    `json:"id"`
	Name      string    `json:"name"`
	Role      string    `json:"role"`
	Teams     []string  `json:"teams,omitempty"`   // that it is limited to; absent: it is not
	Of        string    `json:"of,omitempty"`      // credential that it came from, which ends it too
	Address   string    `json:"address,omitempty"` // where it began; absent: the service's machine
	Program   string    `json:"program,omitempty"` // browser, as it calls itself
	Created   time.Time `json:"created"`
	Expires   time.Time `json:"expires"`
	Used      time.Time `json:"used"`                // last
	IsCurrent bool      `json:"isCurrent,omitempty"` // it is the one of this call
}

// SessionList is sessions, the newest first.
type SessionList struct {
	Sessions []Session `json:"sessions"`
}

// AccessTokenRequest says what an access token is for.
type AccessTokenRequest struct {
	Name string `json:"name"` // of who acts by it, in the records of all that it does
	Role string `json:"role"` // viewer, editor or admin
	// teams whose part it is limited to; absent: it is not limited
	Teams      []string `json:"teams,omitempty"`
	ForSeconds int64    `json:"forSeconds,omitempty"` // how long it is good; 90 days when absent, at most 400 days
}

// AccessToken is a token of a person or a program. Its text is known when it is created,
// and never again.
type AccessToken struct {
	ID      string     `json:"id"`
	Token   string     `json:"token,omitempty"` // only when it was just created
	Name    string     `json:"name"`
	Role    string     `json:"role"`
	Teams   []string   `json:"teams,omitempty"` // see AccessTokenRequest
	By      string     `json:"by"`              // who made it
	Created time.Time  `json:"created"`
	Expires time.Time  `json:"expires"`
	Used    *time.Time `json:"used,omitempty"` // last; absent: never
}

// AccessTokenList is the access tokens, the newest first.
type AccessTokenList struct {
	Tokens []AccessToken `json:"tokens"`
}

// DeviceSignIn is how somebody allows a command to sign in as them, with a browser
// anywhere.
type DeviceSignIn struct {
	Handle      string    `json:"handle"` // for awaiting it: a secret
	URL         string    `json:"url"`
	Code        string    `json:"code"`                  // to be typed there
	CompleteURL string    `json:"completeURL,omitempty"` // URL with the code in it
	Expires     time.Time `json:"expires"`
}

// AwaitRequest waits for a DeviceSignIn.
type AwaitRequest struct {
	Handle string `json:"handle"`
}

// DeviceToken is what a command signs in with.
type DeviceToken struct {
	IsPending bool   `json:"isPending"`       // nobody has allowed it yet: await it again
	Token     string `json:"token,omitempty"` // to be sent as an access token
}
