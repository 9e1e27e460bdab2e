package model

import "time"

// Certificate is the certificate by which a proxy came.
type Certificate struct {
	Identity string    `json:"identity"` // SPIFFE ID
	Expires  time.Time `json:"expires"`  // when it runs out
	IsOld    bool      `json:"isOld"`    // it is below an authority that does not sign any more
	Trusts   uint64    `json:"trusts"`   // generation of the authorities that the proxy trusts
}

// Authority is who signs the certificates of the mesh.
type Authority struct {
	Domain     string `json:"domain"`     // trust domain of all identities
	Generation uint64 `json:"generation"` // rises with every change of what is trusted
	// steady, announcing (proxies are told to trust a new root too), signing (they get
	// certificates of it) or retiring (they are told to forget the old one)
	Phase       string          `json:"phase"`
	Since       time.Time       `json:"since"`       // when the phase started
	LifeSeconds int64           `json:"lifeSeconds"` // of the certificates of proxies
	Roots       []AuthorityRoot `json:"roots"`       // that proxies trust
	Signer      AuthoritySigner `json:"signer"`
	HasRequest  bool            `json:"hasRequest"` // a signing request waits for its certificate
	Proxies     int             `json:"proxies"`    // that are registered
	Waiting     []string        `json:"waiting"`    // proxies that the phase waits for
}

// AuthorityRoot is a root that proxies trust.
type AuthorityRoot struct {
	Name        string    `json:"name"`
	Fingerprint string    `json:"fingerprint"` // SHA-256 of its public key, in hexadecimal
	Expires     time.Time `json:"expires"`
	Signs       bool      `json:"signs"`  // new certificates are below it
	HasKey      bool      `json:"hasKey"` // its key is on the service's machine
}

// AuthoritySigner is the certificate that signs those of proxies.
type AuthoritySigner struct {
	Name    string    `json:"name"`
	Issuer  string    `json:"issuer"`
	Expires time.Time `json:"expires"`
}

// SigningRequest is a request for the certificate of a signer.
type SigningRequest struct {
	Request string `json:"request"` // PKCS #10, in PEM
}

// InstallRequest brings the certificate for a signing request.
type InstallRequest struct {
	Chain string `json:"chain"` // in PEM: the signer's certificate, those above it, the root last
}

// Roots is the roots that proxies trust.
type Roots struct {
	Domain string `json:"domain"`
	Roots  string `json:"roots"` // certificates in PEM
}

// JoinTokenRequest says what a proxy that joins with a token may be.
type JoinTokenRequest struct {
	Service  string `json:"service,omitempty"` // a service, a gateway, or the crossing of a site
	Gateway  string `json:"gateway,omitempty"`
	Crossing string `json:"crossing,omitempty"`
	Version  string `json:"version,omitempty"` // absent: any
	Site     string `json:"site,omitempty"`    // absent: any; of a crossing, its own
	// IP addresses and prefixes at which it may take requests, besides the one that it connects from
	Addresses  []string `json:"addresses,omitempty"`
	Uses       int      `json:"uses,omitempty"`       // how many proxies may join with it; 1 when absent
	ForSeconds int64    `json:"forSeconds,omitempty"` // 600 when absent
	// HOST:PORT where the proxy reaches the service; absent: --mesh-addr of the service, or its own address
	Server string `json:"server,omitempty"`
}

// JoinToken is a join token. Its text is known when it is created, and never again.
type JoinToken struct {
	ID        string    `json:"id"`
	Token     string    `json:"token,omitempty"` // what the proxy needs, only when it was just created
	Service   string    `json:"service,omitempty"`
	Gateway   string    `json:"gateway,omitempty"`
	Crossing  string    `json:"crossing,omitempty"` // site
	Version   string    `json:"version,omitempty"`
	Site      string    `json:"site,omitempty"`
	Addresses []string  `json:"addresses,omitempty"`
	Uses      int       `json:"uses"`
	Used      int       `json:"used"`
	Created   time.Time `json:"created"`
	Expires   time.Time `json:"expires"`
	By        string    `json:"by,omitempty"`
}

// JoinTokenList is the join tokens, the newest first.
type JoinTokenList struct {
	Tokens []JoinToken `json:"tokens"`
}
