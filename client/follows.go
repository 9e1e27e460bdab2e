package client

import (
	"context"
	"fmt"
	"net/http"
	"net/url"

	"nightjar/api/model"
)

// Follows lists the bundles that follow a branch of a repository.
func (c *Client) Follows(ctx context.Context) (l model.FollowList, err error) {
	return l, c.do(ctx, http.MethodGet, "/follows", nil, &l)
}

// Follow lets a bundle follow a branch, and looks at it.
func (c *Client) Follow(ctx context.Context, ask model.FollowRequest) (f model.Follow, err error) {
	return f, c.do(ctx, http.MethodPost, "/follows", ask, &f)
}

// StopFollowing lets a bundle follow its branch no more, and lists the others.
func (c *Client) StopFollowing(ctx context.Context, bundle string) (l model.FollowList, err error) {
	return l, c.do(ctx, http.MethodDelete, "/follows/"+url.PathEscape(bundle), nil, &l)
}

// Look looks at the repository of a bundle at once.
func (c *Client) Look(ctx context.Context, bundle string, ask model.LookRequest) (f model.Follow, err error) {
	return f, c.do(ctx, http.MethodPost, "/follows/"+url.PathEscape(bundle)+"/looks", ask, &f)
}

// Propose pushes a change of a bundle as a branch of its own.
func (c *Client) Propose(ctx context.Context, bundle string, ask model.ProposalRequest) (p model.Proposal, err error) {
	return p, c.do(ctx, http.MethodPost, "/follows/"+url.PathEscape(bundle)+"/proposals", ask, &p)
}

// WithdrawProposal deletes the branch of an open proposal.
func (c *Client) WithdrawProposal(ctx context.Context, bundle string, number uint) (f model.Follow, err error) {
	path := fmt.Sprintf("/follows/%s/proposals/%d", url.PathEscape(bundle), number)
	return f, c.do(ctx, http.MethodDelete, path, nil, &f)
}
