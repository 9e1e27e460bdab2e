package cli

import (
	"bytes"
	"cmp"
	"context"
	"fmt"
	"io"
	"os"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"nightjar/api/model"
	"nightjar/cli/out"
	"nightjar/client"
)

// followEvery is how often --follow shows something.
const followEvery = time.Second

// follow shows something once, or repeatedly until the command is interrupted: in
// place on a terminal, one after the other into a pipe (JSON as one line each).
func (a *app) follow(cmd *cobra.Command, again bool, show func(context.Context, *out.Printer) error) error {
	if !again {
		return show(cmd.Context(), a.printer(cmd))
	}
	w := cmd.OutOrStdout()
	f := out.File(w)
	inPlace := f != nil && out.Terminal(f)
	t := time.NewTicker(followEvery)
	defer t.Stop()
	for first := true; ; first = false {
		var page bytes.Buffer
		width := 0
		if inPlace {
			width = pageWidth(f)
		}
		err := show(cmd.Context(), &out.Printer{
			W:      &page,
			Format: a.format,
			Lines:  true,
			Colour: inPlace,
			Width:  width,
		})
		switch {
		case cmd.Context().Err() != nil:
			return nil
		case err != nil:
			return err
		}
		if inPlace {
			err = redraw(out.Screen(w), out.Escape(page.Bytes()), first)
		} else {
			if !first && a.format != "json" {
				fmt.Fprintln(w)
			}
			_, err = w.Write(page.Bytes())
		}
		if err != nil {
			return nil // the reader is gone
		}
		select {
		case <-cmd.Context().Done():
			return nil
		case <-t.C:
		}
	}
}

// pageWidth is the width of a page that redraw draws on a terminal. The last column
// stays empty: clearing the rest of a line that ends there would clear its last
// character. It is asked for again for each page, as windows are resized.
func pageWidth(f *os.File) int { return max(0, out.Columns(f)-1) }

// redraw draws a page over the one before, line by line, so that nothing flickers.
// What is wider than the terminal is cut off by it.
func redraw(w io.Writer, page []byte, first bool) error {
	var b bytes.Buffer
	if first {
		b.WriteString("\x1b[2J")
	}
	b.WriteString("\x1b[H\x1b[?7l")
	for line := range bytes.Lines(page) {
		b.Write(bytes.TrimSuffix(line, []byte("\n")))
		b.WriteString("\x1b[K\r\n")
	}
	b.WriteString("\x1b[J\x1b[?7h")
	_, err := w.Write(b.Bytes())
	return err
}

// windowFlags are those of commands that show figures of a window of time.
type windowFlags struct {
	seconds int
	ago     time.Duration
	follow  bool
	site    string // with addSite
}

// maxWindow is how far back figures go.
const maxWindow = 14 * 24 * time.Hour

func (w *windowFlags) add(cmd *cobra.Command) {
	f := cmd.Flags()
	f.IntVar(&w.seconds, "window", cmp.Or(w.seconds, 10), "seconds that the figures cover; at most 14 days")
	f.DurationVar(&w.ago, "ago", 0, "how long ago the window ended, such as 5m")
	f.BoolVar(
		&w.follow,
		"follow",
		false,
		"show it every second: in place on a terminal, one after the other into a pipe",
	)
}

// addSite adds the flag that narrows the mesh to a site.
func (a *app) addSite(cmd *cobra.Command, site *string) {
	cmd.Flags().StringVar(site, "site", "", "only what runs at this site, and requests that were made or answered there")
	cmd.RegisterFlagCompletionFunc("site", func(cmd *cobra.Command, _ []string, _ string) ([]string, completion) {
		c, err := a.client()
		if err != nil {
			return nil, cobra.ShellCompDirectiveNoFileComp
		}
		m, _ := c.Mesh(cmd.Context(), 0)
		return m.Sites, cobra.ShellCompDirectiveNoFileComp
	})
}

// noSite says that there is no such site.
func noSite(site string, all []string) error {
	if len(all) == 0 {
		return usagef("--site %s: there are no sites: start proxies with --site NAME", site)
	}
	return usagef("--site %s: there is no such site: name one of %s", site, strings.Join(all, ", "))
}

// checkSite is an error if there is no such site: that nothing was found there says nothing
// then. Empty: any.
func checkSite(ctx context.Context, c *client.Client, site string) error {
	if site == "" {
		return nil
	}
	m, err := c.Mesh(ctx, 0)
	if err != nil || slices.Contains(m.Sites, site) {
		return err
	}
	return noSite(site, m.Sites)
}

func (w *windowFlags) check() error {
	switch {
	case w.seconds < 1 || time.Duration(w.seconds)*time.Second > maxWindow:
		return usagef("--window %d: expected 1 to %d seconds", w.seconds, int(maxWindow.Seconds()))
	case w.ago < 0 || w.ago > maxWindow:
		return usagef("--ago %s: expected a time up to 14 days (336h)", w.ago)
	case w.ago > 0 && w.follow:
		return usagef("--ago and --follow cannot be combined: the past does not change")
	}
	return nil
}

// at is the end of the window for the service; 0: now.
func (w *windowFlags) at() int64 {
	if w.ago == 0 {
		return 0
	}
	return time.Now().Add(-w.ago).Unix()
}

// showMesh shows the mesh with the figures of the window.
func (a *app) showMesh(cmd *cobra.Command, w *windowFlags, show func(*out.Printer, model.Mesh) error) error {
	if err := w.check(); err != nil {
		return err
	}
	c, err := a.client()
	if err != nil {
		return err
	}
	return a.follow(cmd, w.follow, func(ctx context.Context, p *out.Printer) error {
		m, err := c.MeshAt(ctx, w.seconds, w.at(), w.site)
		if err != nil {
			return err
		}
		if w.site != "" && !slices.Contains(m.Sites, w.site) {
			return noSite(w.site, m.Sites)
		}
		return show(p, m)
	})
}
