package cli

import (
	"strings"
	"time"

	"github.com/spf13/cobra"

	"nightjar/api/model"
	"nightjar/client"
)

func (a *app) split() *cobra.Command {
	var route, message string
	var wait time.Duration
	var propose bool
	cmd := &cobra.Command{
		Use:   "split SERVICE VERSION=PERCENT …",
		Short: "Change the weights of one route, as a new revision",
		Long: `Change the weights of one route in the rules in force, as a new revision. The
weights are percent with up to three decimals and add to 100; a version that is not
named gets no requests. The rule files on disk do not change: "nightjar rules diff"
shows the difference.`,
		Example: `  nightjar split sailings v1=80 v2=20
  nightjar split sailings v3=100 --route crew-first --message "crew stays on v3"`,
		ValidArgsFunction: a.serviceNames,
		Args: func(cmd *cobra.Command, args []string) error {
			if len(args) < 2 {
				return usagef("expected: %s SERVICE VERSION=PERCENT …", cmd.CommandPath())
			}
			return nil
		},
		RunE: func(cmd *cobra.Command, args []string) error {
			in := model.SplitRequest{Route: route, Message: message, WaitMS: waitMS(wait)}
			for _, arg := range args[1:] {
				v, w, ok := strings.Cut(arg, "=")
				if !ok {
					return usagef("%q: expected VERSION=PERCENT, such as v2=20", arg)
				}
				in.Weights = append(in.Weights, model.Weight{Target: v, Weight: w})
			}
			c, err := a.client()
			if err != nil {
				return err
			}
			if propose {
				change := model.SplitChange{Service: args[0], Route: route, Weights: in.Weights}
				return a.proposeSplit(cmd, c, change, message)
			}
			p, err := c.Split(cmd.Context(), args[0], in, nil)
			if err != nil {
				return a.rejected(cmd, err)
			}
			return a.published(cmd, p)
		},
	}
	f := cmd.Flags()
	f.StringVar(&route, "route", "", "route to change (default: the only one that can be meant)")
	f.StringVarP(&message, "message", "m", "", "message of the revision")
	f.BoolVar(&propose, "propose", false,
		"of a bundle that follows a branch: change nothing now, and push the change as a branch to be reviewed")
	f.DurationVar(&wait, "wait", 5*time.Second, "how long to wait for acknowledgements")
	return cmd
}

// proposeSplit proposes other weights to the branch that the bundle of the route follows.
func (a *app) proposeSplit(cmd *cobra.Command, c *client.Client, change model.SplitChange, message string) error {
	m, err := c.Mesh(cmd.Context(), 0)
	if err != nil {
		return err
	}
	bundle := model.MainBundle
	for _, s := range m.Services {
		for _, rt := range s.Routes {
			isMeant := s.Name == change.Service && (change.Route == "" || rt.Name == change.Route)
			if name, _, isOther := strings.Cut(rt.At.File, ":"); isMeant && isOther {
				bundle = name
			}
		}
	}
	return a.propose(cmd, bundle, model.ProposalRequest{Message: message, Split: &change})
}
