package cli

import (
	"os"
	"time"

	"github.com/jedib0t/go-pretty/v6/progress"

	"nightjar/cli/out"
)

// progress draws a bar on a terminal's standard error until done is called; on
// anything else nothing is drawn.
func (a *app) progress(
	message string,
	total int64,
	style func(*progress.Style),
) (update func(message string, value int64), done func()) {
	if !out.Terminal(os.Stderr) {
		return func(string, int64) {}, func() {}
	}
	w := progress.NewWriter()
	w.SetOutputWriter(os.Stderr)
	w.SetUpdateFrequency(100 * time.Millisecond)
	w.SetTrackerLength(30)
	style(w.Style())
	t := &progress.Tracker{Message: message, Total: total}
	w.AppendTracker(t)
	go w.Render()
	return func(message string, value int64) {
			t.UpdateMessage(message)
			t.SetValue(value)
		}, func() {
			t.MarkAsDone()
			for range 20 { // the writer draws its last line by itself
				if !w.IsRenderInProgress() || w.LengthActive() == 0 {
					break
				}
				time.Sleep(20 * time.Millisecond)
			}
			w.Stop()
		}
}
