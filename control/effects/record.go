package effects

import (
	"fmt"
	"time"

	"nightjar/api/from"
	"nightjar/api/model"
	"nightjar/core/effect"
)

// record is an effect as it is stored. The names of its fields in JSON do not
// change: earlier records have them.
type record struct {
	Revision   uint         `json:"revision,omitempty"`
	At         time.Time    `json:"at"`
	Kind       string       `json:"kind,omitempty"`
	Author     string       `json:"author,omitempty"`
	Message    string       `json:"message,omitempty"`
	Site       string       `json:"site,omitempty"`
	Before     model.Window `json:"before"`
	After      model.Window `json:"after"`
	Settle     int64        `json:"settle"`
	IsComplete bool         `json:"complete"`
	Due        *time.Time   `json:"due,omitempty"`
	IsRecorded bool         `json:"recorded"`
	Rows       []effect.Row `json:"rows"`
	Notes      []string     `json:"notes"`
}

func (r *record) note(format string, args ...any) {
	r.Notes = append(r.Notes, fmt.Sprintf(format, args...))
}

// view is the record as the API shows it.
func (r *record) view() model.Effect {
	return model.Effect{
		Revision:   r.Revision,
		At:         r.At,
		Kind:       r.Kind,
		Author:     r.Author,
		Message:    r.Message,
		Site:       r.Site,
		Before:     r.Before,
		After:      r.After,
		Settle:     r.Settle,
		IsComplete: r.IsComplete,
		Due:        r.Due,
		IsRecorded: r.IsRecorded,
		Rows:       from.EffectRows(r.Rows),
		Notes:      r.Notes,
	}
}

// summary is what lists show of an effect, as it is stored.
type summary struct {
	Revision   uint           `json:"revision"`
	At         time.Time      `json:"at"`
	Kind       string         `json:"kind"`
	Author     string         `json:"author"`
	Message    string         `json:"message"`
	IsComplete bool           `json:"complete"`
	Due        *time.Time     `json:"due,omitempty"`
	Verdict    effect.Verdict `json:"verdict,omitempty"`
	Success    *effect.Figure `json:"success,omitempty"`
	Worse      int            `json:"worse"`
	Better     int            `json:"better"`
	Worst      string         `json:"worst,omitempty"`
}

func (r *record) summary() summary {
	s := summary{
		Revision:   r.Revision,
		At:         r.At,
		Kind:       r.Kind,
		Author:     r.Author,
		Message:    r.Message,
		IsComplete: r.IsComplete,
		Due:        r.Due,
	}
	for i := range r.Rows {
		row := &r.Rows[i]
		switch {
		case row.Kind == effect.Mesh:
			s.Verdict, s.Success = row.Verdict, &row.Success
		case row.Verdict == effect.Worse:
			if s.Worse++; s.Worst == "" {
				s.Worst = string(row.Kind) + " " + row.Name
			}
		case row.Verdict == effect.Better:
			s.Better++
		}
	}
	return s
}

// view is the summary as the API shows it.
func (s *summary) view() model.EffectSummary {
	out := model.EffectSummary{
		Revision:   s.Revision,
		At:         s.At,
		Kind:       s.Kind,
		Author:     s.Author,
		Message:    s.Message,
		IsComplete: s.IsComplete,
		Due:        s.Due,
		Verdict:    string(s.Verdict),
		Worse:      s.Worse,
		Better:     s.Better,
		Worst:      s.Worst,
	}
	if s.Success != nil {
		figure := from.EffectFigure(*s.Success)
		out.Success = &figure
	}
	return out
}
