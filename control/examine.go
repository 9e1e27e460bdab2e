package control

import (
	"context"

	"nightjar/api/model"
	"nightjar/doctor"
)

// examined is how many seconds of figures an examination looks at.
const examined = 10

// Examine finds out what is wrong with the service, its records and its proxies. address
// is where people reach the service. What cannot be read is left out.
func (c *Control) Examine(ctx context.Context, address string) model.Examination {
	now := c.now()
	records := c.records.Inspect(ctx)
	list, authority := c.Fleet.List(), c.Members.View()
	f := doctor.Facts{
		IsOwn:       true,
		Now:         now,
		ServiceTime: now,
		Server:      address,
		Records:     &records,
		IsNamed:     true,
		Fleet:       &list,
		Authority:   &authority,
		Follows:     c.Follows.List(ctx),
	}
	if err := c.Ready(ctx); err != nil {
		f.NotReady = err.Error()
	}
	if m, err := c.Views.Mesh(ctx, examined, 0, ""); err == nil {
		f.Mesh = &m
	}
	if r, err := c.Revisions.List(ctx, 0, 1); err == nil && len(r) > 0 {
		f.Newest = &r[0]
	}
	return doctor.Examine(f)
}
