package cli

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"nightjar/api/model"
	"nightjar/cli/out"
	"nightjar/client"
)

func (a *app) upgrade() *cobra.Command {
	var program, waves string
	var each time.Duration
	var detach bool
	q := model.UpgradeRequest{}
	cmd := &cobra.Command{
		Use:   "upgrade",
		Short: "Have the proxies take a program, wave by wave",
		Long: `Have the proxies take a program. The service signs it, and offers it to one wave after the
other. Each proxy verifies hash and signature, hands over to it as on SIGHUP, and keeps the
program before. A wave is looked at for --each: when its proxies do worse (success,
restarts, memory, problems), or cannot start the program, all that have it go back.

Whoever is an admin of the service decides what proxies run. A proxy with --own-program,
or without --state, takes none.`,
		Example: `  nightjar fleet upgrade --program ./nightjar-next
  nightjar fleet upgrade --program ./nightjar-next --waves 5%,25%,100% --each 30s --site north-quay`,
		Args: exactly(0, "--program FILE"),
		RunE: func(cmd *cobra.Command, _ []string) error {
			if program == "" {
				return usagef("name the program: --program FILE")
			}
			f, err := os.Open(program)
			if err != nil {
				return usagef("--program: %w", err)
			}
			defer f.Close()
			info, err := f.Stat()
			if err != nil || !info.Mode().IsRegular() || info.Mode()&0o111 == 0 {
				return usagef("--program %s: it is not a file that can be run", program)
			}
			c, err := a.client()
			if err != nil {
				return err
			}
			p, err := c.UploadProgram(cmd.Context(), f, info.Size())
			if err != nil {
				return err
			}
			q.Hash, q.Name, q.Each = p.Hash, filepath.Base(program), each.String()
			if waves != "" {
				q.Waves = strings.Split(waves, ",")
			}
			u, err := c.StartUpgrade(cmd.Context(), q)
			if err != nil {
				return err
			}
			if detach {
				return a.printer(cmd).Show(u, func(s *out.Sheet) { upgradeSheet(s, u) })
			}
			return a.followUpgrade(cmd, c, u)
		},
	}
	f := cmd.Flags()
	f.StringVar(&program, "program", "", "file of the program")
	f.StringVar(&waves, "waves", "", "shares of the proxies that have it after each wave (default 5%,25%,100%)")
	f.DurationVar(&each, "each", 10*time.Second, "how long a wave is looked at")
	f.BoolVar(&detach, "detach", false, "return when it has begun, instead of following it to its end")
	a.addSite(cmd, &q.Site)
	f.Lookup("site").Usage = "only proxies at this site"
	return cmd
}

// followUpgrade shows what becomes of an upgrade until it has ended. One that was taken back
// is a finding.
func (a *app) followUpgrade(cmd *cobra.Command, c *client.Client, u model.Upgrade) error {
	told := ""
	for {
		line := upgradeLine(u)
		if a.format == "table" && line != told {
			told = line
			fmt.Fprintf(cmd.OutOrStdout(), "%s  %s\n", time.Now().Format(time.TimeOnly), line)
		}
		if u.Ended != nil {
			break
		}
		select {
		case <-cmd.Context().Done():
			return cmd.Context().Err()
		case <-time.After(500 * time.Millisecond):
		}
		l, err := c.Upgrades(cmd.Context())
		if err != nil {
			return err
		}
		for _, one := range l.Upgrades {
			if one.Number == u.Number {
				u = one
			}
		}
	}
	if a.format != "table" {
		if err := a.printer(cmd).Show(u, func(s *out.Sheet) { upgradeSheet(s, u) }); err != nil {
			return err
		}
	}
	if u.State != model.UpgradeCompleted {
		return finding
	}
	return nil
}

// upgradeLine is how an upgrade stands, in words.
func upgradeLine(u model.Upgrade) string {
	began, last := 0, model.UpgradeWave{}
	for _, w := range u.Waves {
		if w.HasBegun {
			began++
			last = w
		}
	}
	switch u.State {
	case model.UpgradeCompleted:
		return fmt.Sprintf("completed: all %s have the program", count(proxiesOf(u), "proxy"))
	case model.UpgradeTakingBack:
		return "it is taken back: " + u.Why
	case model.UpgradeTakenBack:
		return "taken back: " + u.Why
	}
	of := count(len(last.Proxies), "proxy")
	return fmt.Sprintf("wave %d of %d: %d of %s have the program", began, len(u.Waves), last.Took, of)
}

func proxiesOf(u model.Upgrade) (n int) {
	for _, w := range u.Waves {
		n += len(w.Proxies)
	}
	return n
}

func upgradeSheet(s *out.Sheet, u model.Upgrade) {
	where := ""
	if u.Site != "" {
		where = " at " + u.Site
	}
	s.Line("Upgrade %d to %s (%s)%s by %s: %s", u.Number, u.Program, u.Hash[:12], where, u.By, upgradeLine(u))
	rows := [][]string{}
	for i, w := range u.Waves {
		state := "waits"
		if w.HasBegun {
			state = fmt.Sprintf("%d of %d have it", w.Took, len(w.Proxies))
		}
		if len(w.Failed) > 0 {
			state += "; " + strings.Join(w.Failed, "; ")
		}
		names := w.Proxies[:min(len(w.Proxies), 5)]
		more := ""
		if n := len(w.Proxies) - len(names); n > 0 {
			more = fmt.Sprintf(" and %d more", n)
		}
		rows = append(rows, []string{fmt.Sprint(i + 1), fmt.Sprint(len(w.Proxies)), state, strings.Join(names, ", ") + more})
	}
	s.Table([]string{"WAVE>", "PROXIES>", "STATE", "NAMES"}, rows)
}

func (a *app) upgrades() *cobra.Command {
	return &cobra.Command{
		Use:   "upgrades",
		Short: "The newest upgrade, and those before it",
		Example: `  nightjar fleet upgrades
  nightjar fleet upgrades -o json`,
		Args: exactly(0, ""),
		RunE: func(cmd *cobra.Command, _ []string) error {
			return ask(a, cmd, (*client.Client).Upgrades, func(s *out.Sheet, l model.UpgradeList) {
				if len(l.Upgrades) == 0 {
					s.Line("There was no upgrade. Start one: nightjar fleet upgrade --program FILE")
					return
				}
				upgradeSheet(s, l.Upgrades[0])
				if len(l.Upgrades) == 1 {
					return
				}
				s.Line("")
				rows := [][]string{}
				for _, u := range l.Upgrades[1:] {
					rows = append(rows, []string{
						fmt.Sprint(u.Number), u.Began.Local().Format(time.DateTime), u.Program, u.Hash[:12], u.Site,
						fmt.Sprint(proxiesOf(u)), u.By, upgradeLine(u),
					})
				}
				s.Table([]string{"UPGRADE>", "BEGAN", "PROGRAM", "HASH", "SITE", "PROXIES>", "BY", "STATE"}, rows)
			})
		},
	}
}

func (a *app) takeBack() *cobra.Command {
	return &cobra.Command{
		Use:   "take-back",
		Short: "Have the proxies that took the newest program run the one before again",
		Example: `  nightjar fleet take-back
  nightjar fleet take-back -o json`,
		Args: exactly(0, ""),
		RunE: func(cmd *cobra.Command, _ []string) error {
			return ask(a, cmd, func(c *client.Client, ctx context.Context) (model.Upgrade, error) {
				l, err := c.Upgrades(ctx)
				if err != nil {
					return model.Upgrade{}, err
				}
				if len(l.Upgrades) == 0 {
					return model.Upgrade{}, usagef("there was no upgrade")
				}
				return c.TakeBackUpgrade(ctx, l.Upgrades[0].Number)
			}, upgradeSheet)
		},
	}
}
