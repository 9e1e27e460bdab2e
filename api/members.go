package api

import (
	"net/http"
	"time"

	"github.com/labstack/echo/v5"

	"nightjar/api/model"
	"nightjar/control/members"
	"nightjar/control/people"
	"nightjar/identity"
	"nightjar/store"
)

// memberOperations are about who belongs to the mesh.
func (s *Server) memberOperations() []Operation {
	return []Operation{
		get("/authority", "authority", "Who signs the certificates of the mesh, and how a rotation is going",
			func(*echo.Context) (model.Authority, error) { return s.control.Members.View(), nil }).forTeams(),
		get("/authority/roots", "roots", "The roots that proxies trust", s.roots).forTeams(),
		act("/authority/rotate", "rotateAuthority", "Replace the root by a new one, step by step",
			func(c *echo.Context) (model.Authority, error) {
				err := s.control.Members.Rotate(c.Request().Context())
				return s.control.Members.View(), err
			}).needing(people.Admin),
		act(
			"/authority/request",
			"requestAuthority",
			"Make a signing request, so that an authority elsewhere signs the mesh's own; the key stays with the service",
			func(c *echo.Context) (model.SigningRequest, error) {
				text, err := s.control.Members.Request(c.Request().Context())
				return model.SigningRequest{Request: text}, err
			},
		).needing(people.Admin),
		send(
			http.MethodPost,
			"/authority/install",
			"installAuthority",
			"Take the certificate for the signing request into use",
			func(c *echo.Context, in model.InstallRequest) (model.Authority, error) {
				err := s.control.Members.Install(c.Request().Context(), in.Chain)
				return s.control.Members.View(), err
			},
		).needing(people.Admin),
		get("/access", "access", "Who may call whom, who did, and who was refused",
			func(c *echo.Context) (model.AccessMatrix, error) {
				m, err := s.control.Access.Matrix(c.Request().Context(), c.QueryParam("from"), c.QueryParam("to"))
				return matrixFor(m, s.scopeOf(c)), err
			}, Param{"from", "string", "only this caller"}, Param{"to", "string", "only this service"}).forTeams(),
		get("/access/suggestion", "suggestAccess", "Access rules for what was used in the last 14 days",
			func(c *echo.Context) (model.AccessSuggestion, error) {
				return s.control.Access.Suggest(c.Request().Context())
			}),
		get("/join-tokens", "joinTokens", "Join tokens, the newest first", s.joinTokens).needing(people.Admin),
		create("/join-tokens", "createJoinToken", "Make a token with which a proxy joins the mesh", s.createJoinToken).
			needing(people.Admin),
		remove(
			"/join-tokens/:token",
			"revokeJoinToken",
			"Revoke a join token; proxies that joined with it stay members",
			func(c *echo.Context) (model.JoinTokenList, error) {
				if err := s.control.Members.RevokeToken(c.Request().Context(), c.Param("token")); err != nil {
					return model.JoinTokenList{}, err
				}
				return s.joinTokens(c)
			},
		).needing(people.Admin),
	}
}

func (s *Server) roots(*echo.Context) (model.Roots, error) {
	t := s.control.Members.Authority.Trust()
	return model.Roots{Domain: t.Domain, Roots: string(t.PEM())}, nil
}

func (s *Server) joinTokens(c *echo.Context) (model.JoinTokenList, error) {
	list, err := s.control.Members.Tokens(c.Request().Context())
	return model.JoinTokenList{Tokens: list}, err
}

func (s *Server) createJoinToken(c *echo.Context, in model.JoinTokenRequest) (model.JoinToken, error) {
	g := store.Grant{
		Kind:      identity.Service,
		Name:      in.Service,
		Version:   in.Version,
		Site:      in.Site,
		Addresses: in.Addresses,
	}
	switch {
	case in.Service != "" && in.Gateway == "" && in.Crossing == "":
	case in.Gateway != "" && in.Service == "" && in.Crossing == "":
		g.Kind, g.Name = identity.Gateway, in.Gateway
	case in.Crossing != "" && in.Service == "" && in.Gateway == "" && in.Version == "" &&
		(in.Site == "" || in.Site == in.Crossing):
		g.Kind, g.Name, g.Site = identity.Crossing, in.Crossing, in.Crossing
	default:
		return model.JoinToken{}, failed(http.StatusUnprocessableEntity, "invalid",
			"a join token is for one service, one gateway, or the crossing of one site: name one of them")
	}
	address, err := s.reachable(in.Server)
	if err != nil {
		return model.JoinToken{}, failed(http.StatusUnprocessableEntity, "invalid", "%s", err)
	}
	secret, out, err := s.control.Members.CreateToken(c.Request().Context(), members.Wanted{
		Grant: g,
		Uses:  in.Uses,
		For:   time.Duration(in.ForSeconds) * time.Second,
	})
	if err != nil {
		return model.JoinToken{}, err
	}
	out.Token = s.token(address, secret).Text()
	return out, nil
}
