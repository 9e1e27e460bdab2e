// Package from turns values of the rules, the engine, the store and the proxies
// into those of api/model. It decides nothing.
package from

import (
	"nightjar/api/model"
	"nightjar/core/effect"
	"nightjar/core/release"
	"nightjar/core/rules"
	"nightjar/core/trial"
	"nightjar/store"
)

// list converts every element. The result is never nil, so that it is a list in
// JSON too.
func list[A, B any](in []A, one func(A) B) []B {
	out := make([]B, len(in))
	for i, v := range in {
		out[i] = one(v)
	}
	return out
}

// Files are rule files.
func Files(in []rules.File) []model.File {
	return list(in, func(f rules.File) model.File { return model.File(f) })
}

// ToFiles is the reverse of Files.
func ToFiles(in []model.File) []rules.File {
	return list(in, func(f model.File) rules.File { return rules.File(f) })
}

// ToBundles are the files of several bundles.
func ToBundles(in map[string][]model.File) store.Bundles {
	out := store.Bundles{}
	for name, files := range in {
		out[name] = ToFiles(files)
	}
	return out
}

// Finding is a mistake or warning.
func Finding(f rules.Finding) model.Finding {
	out := model.Finding{
		Severity:  string(f.Severity),
		Code:      string(f.Code),
		At:        model.Origin(f.At),
		Path:      f.Path,
		Message:   f.Message,
		Expected:  f.Expected,
		Source:    f.Source,
		SourceCol: f.SourceAt,
	}
	if f.Also != nil {
		also := model.Origin(*f.Also)
		out.Also = &also
	}
	return out
}

// Findings are mistakes and warnings.
func Findings(in []rules.Finding) []model.Finding { return list(in, Finding) }

// ToFinding is the reverse of Finding.
func ToFinding(f model.Finding) rules.Finding {
	out := rules.Finding{
		Severity: rules.Severity(f.Severity),
		Code:     rules.Code(f.Code),
		At:       rules.Origin(f.At),
		Path:     f.Path,
		Message:  f.Message,
		Expected: f.Expected,
		Source:   f.Source,
		SourceAt: f.SourceCol,
	}
	if f.Also != nil {
		also := rules.Origin(*f.Also)
		out.Also = &also
	}
	return out
}

// Changes are differences between two sets of rules.
func Changes(in []rules.Change) []model.Change {
	return list(in, func(c rules.Change) model.Change {
		return model.Change{Path: c.Path, Before: c.Before, After: c.After, At: model.Origin(c.At)}
	})
}

// ToChanges is the reverse of Changes.
func ToChanges(in []model.Change) []rules.Change {
	return list(in, func(c model.Change) rules.Change {
		return rules.Change{Path: c.Path, Before: c.Before, After: c.After, At: rules.Origin(c.At)}
	})
}

// Setting is a value that holds.
func Setting(h rules.Holding) model.Setting {
	return model.Setting{Name: h.Name, Value: h.Value, From: h.From, At: model.Origin(h.Origin)}
}

// Settings are values that hold.
func Settings(in []rules.Holding) []model.Setting { return list(in, Setting) }

// Revision is a revision with its files, if it has them.
func Revision(r store.Revision) model.Revision {
	out := model.Revision{
		Number:  r.Number,
		Kind:    r.Kind,
		Bundle:  r.Bundle,
		Author:  r.Author,
		Message: r.Message,
		Commit:  r.Commit,
		At:      r.At,
	}
	if r.Bundles != nil {
		out.Bundles = map[string][]model.File{}
	}
	for name, files := range r.Bundles {
		out.Bundles[name] = Files(files)
	}
	return out
}

// Revisions are revisions in a list.
func Revisions(in []store.Revision) []model.Revision { return list(in, Revision) }

// Draft is a draft with its files, if it has them.
func Draft(d store.Draft) model.Draft {
	out := model.Draft{
		Bundle:  d.Bundle,
		By:      d.By,
		Base:    d.Base,
		Version: d.Version,
		At:      d.At,
	}
	if d.Files != nil {
		out.Files = Files(d.Files)
	}
	return out
}

// Drafts are drafts in a list.
func Drafts(in []store.Draft) []model.Draft { return list(in, Draft) }

// Activity is entries of the activity log.
func Activity(in []store.Activity) []model.ActivityEntry {
	return list(in, func(a store.Activity) model.ActivityEntry { return model.ActivityEntry(a) })
}

// ToActivity is the reverse of Activity, for one entry.
func ToActivity(e model.ActivityEntry) store.Activity { return store.Activity(e) }

// Chain is what was found in the activity log.
func Chain(c *store.Chain) model.ActivityChain {
	return model.ActivityChain{
		First:     c.First,
		Last:      c.Last,
		Head:      c.Head,
		Unchained: c.Unchained,
		IsWhole:   c.Fault == "",
		Fault:     c.Fault,
	}
}

// EffectFigure is one measurement on both sides.
func EffectFigure(f effect.Figure) model.EffectFigure {
	return model.EffectFigure{
		Before:  f.Before,
		After:   f.After,
		Change:  f.Change,
		Low:     f.Low,
		High:    f.High,
		Verdict: string(f.Verdict),
	}
}

// EffectRows are the rows of a comparison.
func EffectRows(in []effect.Row) []model.EffectRow {
	return list(in, func(r effect.Row) model.EffectRow {
		out := model.EffectRow{
			Kind:               string(r.Kind),
			Name:               r.Name,
			Against:            r.Against,
			Before:             model.EffectSide(r.Before),
			After:              model.EffectSide(r.After),
			Verdict:            string(r.Verdict),
			Success:            EffectFigure(r.Success),
			FirstAttempt:       EffectFigure(r.FirstTry),
			P50MS:              EffectFigure(r.P50MS),
			P95MS:              EffectFigure(r.P95MS),
			P99MS:              EffectFigure(r.P99MS),
			AttemptsPerRequest: EffectFigure(r.Load),
			ShareP:             r.ShareP,
		}
		for _, c := range r.Reasons {
			out.Reasons = append(out.Reasons,
				model.ReasonChange{Reason: c.Reason, Before: c.Before, After: c.After, Share: EffectFigure(c.Share)})
		}
		for _, s := range r.Shares {
			out.Shares = append(out.Shares, model.ShareCheck(s))
		}
		return out
	})
}

// Expectations are the results of expectations.
func Expectations(in []trial.Judgement) []model.ExpectationResult {
	return list(in, func(j trial.Judgement) model.ExpectationResult {
		return model.ExpectationResult{
			Expectation:  j.Expectation,
			IsMet:        j.Met,
			IsConclusive: j.Sure,
			Value:        j.Value,
			Low:          j.Low,
			High:         j.High,
			Measured:     j.Measured,
			IsImpossible: j.Hopeless,
		}
	})
}

// StageJudgement is one judgement of a release.
func StageJudgement(j release.Judgement) model.StageJudgement {
	return model.StageJudgement{
		At:         j.At,
		Step:       j.Step,
		StepName:   j.StepName,
		Verdict:    judgementVerdict(j.Verdict),
		Findings:   list(j.Findings, judgementFinding),
		To:         model.JudgementSide(j.To),
		From:       model.JudgementSide(j.From),
		NewTo:      model.JudgementSide(j.NewTo),
		NewFrom:    model.JudgementSide(j.NewFrom),
		Share:      j.Share,
		Confidence: j.Sure,
		Misses:     j.Misses,
	}
}

func judgementVerdict(v release.Verdict) string {
	if v == release.Unsure {
		return model.JudgementInconclusive
	}
	return string(v)
}

func judgementFinding(f release.Finding) model.JudgementFinding {
	return model.JudgementFinding{
		Expectation: f.Expectation,
		Verdict:     judgementVerdict(f.Verdict),
		Value:       f.Value,
		Low:         f.Low,
		High:        f.High,
		Measured:    f.Measured,
		Over:        f.Over,
	}
}

// Routes are the names of routes.
func Routes(in []release.Place) []model.RouteRef {
	return list(in, func(p release.Place) model.RouteRef { return model.RouteRef{Parent: p.Ladder, Route: p.Route} })
}
