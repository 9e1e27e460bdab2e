package api

import (
	"net/http"

	"github.com/labstack/echo/v5"

	"nightjar/api/model"
	"nightjar/control/follows"
	"nightjar/control/people"
	"nightjar/core/rules"
)

// followOperations are about bundles that follow a branch of a repository.
func (s *Server) followOperations() []Operation {
	return []Operation{
		get("/follows", "follows", "Bundles that follow a branch of a repository, with their states and proposals",
			s.follows).forTeams(),
		create("/follows", "follow",
			"Let a bundle follow a branch of a repository, in place of what it follows now, and look at it", s.follow).
			needing(people.Admin),
		remove("/follows/:bundle", "stopFollowing",
			"Let a bundle follow its branch no more; what is in force stays", s.stopFollowing).needing(people.Admin),
		send(http.MethodPost, "/follows/:bundle/looks", "look", "Look at the repository of a bundle at once", s.look).
			forTeams(),
		create("/follows/:bundle/proposals", "propose",
			"Push a change of a bundle as a branch of its own, to be reviewed", s.propose).forTeams(),
		remove("/follows/:bundle/proposals/:number", "withdrawProposal", "Delete the branch of an open proposal",
			s.withdrawProposal).forTeams(),
	}
}

// hook answers the addresses by which repositories say that something was pushed. Who knows
// one can have the service look, and nothing else.
func (s *Server) hook(c *echo.Context) error {
	if !s.control.Follows.Hook(c.Param("secret")) {
		return failed(http.StatusNotFound, "not-found",
			"no bundle has this address: nightjar follow list -o json shows them")
	}
	return c.NoContent(http.StatusAccepted)
}

func (s *Server) follows(c *echo.Context) (model.FollowList, error) {
	list := s.control.Follows.List(c.Request().Context())
	for i := range list {
		list[i] = s.followFor(c, list[i])
	}
	sc := s.scopeOf(c)
	return model.FollowList{Follows: keep(list, func(f *model.Follow) bool { return sc.OwnsBundle(f.Bundle) })}, nil
}

// followFor is what who calls sees of a bundle that follows a branch.
func (s *Server) followFor(c *echo.Context, f model.Follow) model.Follow {
	sc := s.scopeOf(c)
	if whoOf(c).Role != people.Admin || sc.IsLimited() {
		f.Hook = ""
	}
	if !sc.IsLimited() {
		return f
	}
	all := f.Findings
	f.Findings = reportFor(model.CheckReport{Findings: all, Mistakes: len(all)}, sc).Findings
	if f.State == model.Refused && f.Findings[0] != all[0] { // whose words are in it
		f.Why = f.Findings[0].Message
	}
	f.Differences = keep(f.Differences, func(d *model.Change) bool {
		return sc.OwnsBundle(rules.Origin{File: d.At.File}.Bundle())
	})
	for i := range f.Proposals {
		f.Proposals[i] = proposalFor(f.Proposals[i], sc)
	}
	return f
}

// proposalFor is what somebody sees of a proposal.
func proposalFor(p model.Proposal, sc *people.Scope) model.Proposal {
	if !sc.IsLimited() || p.Forecast == nil {
		return p
	}
	part := *p.Forecast
	part.Rows, part.Worse = rowsFor(part.Rows, sc), worseFor(part.Worse, sc)
	p.Forecast = &part
	return p
}

func (s *Server) follow(c *echo.Context, in model.FollowRequest) (model.Follow, error) {
	f, err := s.control.Follows.Add(c.Request().Context(), in)
	return s.followFor(c, f), err
}

func (s *Server) stopFollowing(c *echo.Context) (model.FollowList, error) {
	if err := s.control.Follows.Stop(c.Request().Context(), c.Param("bundle")); err != nil {
		return model.FollowList{}, err
	}
	return s.follows(c)
}

func (s *Server) look(c *echo.Context, in model.LookRequest) (model.Follow, error) {
	if err := s.ownsBundles(c, c.Param("bundle")); err != nil {
		return model.Follow{}, err
	}
	o := follows.Options{RefuseUsedLinks: in.RefuseUsedLinks}
	f, err := s.control.Follows.Look(c.Request().Context(), c.Param("bundle"), o)
	return s.followFor(c, f), err
}

func (s *Server) propose(c *echo.Context, in model.ProposalRequest) (model.Proposal, error) {
	if err := s.ownsBundles(c, c.Param("bundle")); err != nil {
		return model.Proposal{}, err
	}
	p, err := s.control.Follows.Propose(c.Request().Context(), c.Param("bundle"), in)
	return proposalFor(p, s.scopeOf(c)), rejectionFor(err, s.scopeOf(c))
}

func (s *Server) withdrawProposal(c *echo.Context) (model.Follow, error) {
	if err := s.ownsBundles(c, c.Param("bundle")); err != nil {
		return model.Follow{}, err
	}
	number, err := pathNumber(c, "number", "proposal")
	if err != nil {
		return model.Follow{}, err
	}
	f, err := s.control.Follows.Withdraw(c.Request().Context(), c.Param("bundle"), number)
	return s.followFor(c, f), err
}
