package api

import (
	"cmp"
	"maps"
	"net/http"
	"slices"

	"github.com/labstack/echo/v5"

	"nightjar/api/from"
	"nightjar/api/model"
	"nightjar/control/actor"
	"nightjar/control/people"
	"nightjar/control/revisions"
	"nightjar/core/rules"
)

// ruleOperations are about rules, drafts and revisions.
func (s *Server) ruleOperations() []Operation {
	schema := Operation{
		Method:  http.MethodGet,
		Path:    "/rules/schema",
		ID:      "schema",
		Summary: "The JSON Schema of a rule file",
		Media:   "application/schema+json",
		Status:  http.StatusOK,
		Needs:   people.Viewer,
		handle:  s.schema,

		IsForTeams: true,
	}
	deleteDraft := Operation{
		Method:  http.MethodDelete,
		Path:    "/drafts/:bundle",
		ID:      "deleteDraft",
		Summary: "Delete a draft",
		Status:  http.StatusNoContent,
		Needs:   people.Editor,
		IfMatch: "version of the draft in quotes, or *; 412 when it has another version",
		handle:  s.deleteDraft,

		IsForTeams: true,
	}
	return []Operation{
		send(
			http.MethodPost,
			"/rules/check",
			"check",
			"Check the files of a bundle and compare them with what is in force",
			s.check,
		).needing(people.Viewer).forTeams(),
		send(http.MethodPost, "/rules/format", "format", "Format rule files; comments stay", s.format).
			needing(people.Viewer).forTeams(),
		send(http.MethodPost, "/rules/values", "values", "What rule files say, as JSON", s.values).
			needing(people.Viewer).forTeams(),
		send(
			http.MethodPost,
			"/rules/amend",
			"amend",
			"Change values in the text of rule files; every other byte stays",
			s.amend,
		).needing(people.Viewer).forTeams(),
		schema,
		get("/drafts", "drafts", "Who is editing which bundle", s.drafts).forTeams(),
		get("/drafts/:bundle", "draft", "The files that somebody is editing", s.draft,
			Param{"by", "string", "whose draft it is; who calls when absent"}).forTeams(),
		send(http.MethodPut, "/drafts/:bundle", "saveDraft", "Save the files that somebody is editing", s.saveDraft).
			matching("version of the draft in quotes, 0 when there is none yet; 412 when it has another version").forTeams(),
		deleteDraft,
		get(
			"/services/:service/effective",
			"effective",
			"What holds for a service after policies and defaults, each value with its origin",
			func(c *echo.Context) (model.EffectiveSettings, error) {
				if err := s.sees(c, c.Param("service")); err != nil {
					return model.EffectiveSettings{}, err
				}
				return s.control.Views.Effective(c.Param("service"))
			},
		).forTeams(),
	}
}

// revisionOperations are about what was published, and publishing.
func (s *Server) revisionOperations() []Operation {
	return []Operation{
		get("/revisions", "revisions", "Published revisions, newest first", s.revisions, pageParams...).forTeams(),
		create(
			"/revisions",
			"publish",
			"Publish the files of a bundle as a new revision, and wait until the proxies have it in force",
			s.publish,
		).
			matching(revisionMatch).orUnchanged().forTeams(),
		get("/revisions/:number", "revision", "One revision with its files; 0 is the one in force", s.revision).forTeams(),
		get("/revisions/:number/changes", "revisionChanges", "What one revision changed in the text of the rules",
			s.revisionChanges).forTeams(),
		create("/revisions/:number/restore", "restore", "Publish an earlier revision again", s.restore).
			matching(revisionMatch).orUnchanged(),
		remove("/bundles/:bundle", "removeBundle", "Publish a revision without a bundle", s.removeBundle,
			Param{"message", "string", "message of the revision"},
			Param{"waitMS", "integer", "how long to wait for the proxies; 5000 when absent, at most 60000"},
			Param{"refuseUsedLinks", "boolean", "publish even if access rules refuse every request of a link in use"}).
			matching(revisionMatch).forTeams(),
		create(
			"/services/:service/split",
			"split",
			"Change the weights of one route, as a new revision",
			s.split,
		).matching(revisionMatch).orUnchanged().forTeams(),
	}
}

func (s *Server) check(c *echo.Context, in model.CheckRequest) (model.CheckReport, error) {
	bundle, files := cmp.Or(in.Bundle, model.MainBundle), from.ToFiles(in.Files)
	if err := s.ownsBundles(c, append(slices.Collect(maps.Keys(in.Others)), bundle)...); err != nil {
		return model.CheckReport{}, err
	}
	if in.Remember && whoOf(c).Role.May(people.Editor) {
		rep, err := s.control.Revisions.Remember(c.Request().Context(), bundle, files)
		return reportFor(rep, s.scopeOf(c)), err
	}
	all := from.ToBundles(in.Others)
	all[bundle] = files // without any it is removed
	rep, err := s.control.Revisions.CheckAll(c.Request().Context(), bundle, all)
	return reportFor(rep, s.scopeOf(c)), err
}

func (s *Server) format(_ *echo.Context, in model.FileList) (model.FileList, error) {
	out := model.FileList{Files: []model.File{}}
	for _, f := range in.Files {
		text, err := rules.Format(rules.File(f))
		if err != nil {
			return out, failed(http.StatusUnprocessableEntity, "syntax", "%s", err.Error())
		}
		out.Files = append(out.Files, model.File{Name: f.Name, Text: text})
	}
	return out, nil
}

func (s *Server) values(_ *echo.Context, in model.FileList) (model.ValuesList, error) {
	out := model.ValuesList{Files: []model.FileValues{}}
	for _, f := range in.Files {
		value, err := rules.Values(rules.File(f))
		one := model.FileValues{Name: f.Name, Value: value}
		if err != nil {
			one.Error = err.Error()
		}
		out.Files = append(out.Files, one)
	}
	return out, nil
}

// maxAmendments is how many changes one request makes.
const maxAmendments = 200

func (s *Server) amend(_ *echo.Context, in model.AmendRequest) (model.FileList, error) {
	if len(in.Amendments) > maxAmendments {
		return model.FileList{}, failed(http.StatusUnprocessableEntity, "too-large",
			"%d amendments in one request: send at most %d", len(in.Amendments), maxAmendments)
	}
	out := model.FileList{Files: in.Files}
	for _, a := range in.Amendments {
		at := slices.IndexFunc(out.Files, func(f model.File) bool { return f.Name == a.File })
		if at < 0 {
			return out, failed(http.StatusUnprocessableEntity, "not-found", "no file %q among the files that were sent", a.File)
		}
		one := rules.Amendment{Path: a.Path, Value: a.Value, Index: a.Index}
		text, err := rules.Amend(rules.File(out.Files[at]), []rules.Amendment{one})
		if err != nil {
			return out, failed(http.StatusUnprocessableEntity, "not-amended", "%s", err.Error())
		}
		out.Files[at] = model.File(text)
	}
	return out, nil
}

func (s *Server) schema(c *echo.Context) error {
	return c.Blob(http.StatusOK, "application/schema+json", rules.Schema)
}

func (s *Server) drafts(c *echo.Context) (model.DraftList, error) {
	list, err := s.control.Revisions.Drafts(c.Request().Context())
	sc := s.scopeOf(c)
	return model.DraftList{Drafts: keep(list, func(d *model.Draft) bool { return sc.OwnsBundle(d.Bundle) })}, err
}

func (s *Server) draft(c *echo.Context) (model.Draft, error) {
	if err := s.ownsBundles(c, c.Param("bundle")); err != nil {
		return model.Draft{}, err
	}
	return s.control.Revisions.Draft(c.Request().Context(), c.Param("bundle"), c.QueryParam("by"))
}

func (s *Server) saveDraft(c *echo.Context, in model.DraftRequest) (model.Draft, error) {
	if err := s.ownsBundles(c, c.Param("bundle")); err != nil {
		return model.Draft{}, err
	}
	expect, err := expected(c, draftMissing)
	if err != nil {
		return model.Draft{}, err
	}
	if expect == nil {
		return model.Draft{}, failed(http.StatusBadRequest, "if-match", "%s", draftMissing)
	}
	return s.control.Revisions.SaveDraft(c.Request().Context(), c.Param("bundle"), in, *expect)
}

// What a call without If-Match is told.
const (
	draftMissing = "If-Match is missing: send the version of the draft in quotes, or \"0\" when there is none yet"
	matchMissing = "If-Match is missing: send the number of the revision in force in quotes (\"0\" when nothing was " +
		"published yet), so that you replace nothing that you have not seen; or * to replace whatever it is"
)

func (s *Server) deleteDraft(c *echo.Context) error {
	if err := s.ownsBundles(c, c.Param("bundle")); err != nil {
		return err
	}
	expect, err := expected(c, draftMissing)
	if err != nil {
		return err
	}
	var version uint
	if expect != nil {
		version = *expect
	}
	err = s.control.Revisions.DeleteDraft(c.Request().Context(), c.Param("bundle"), version)
	if err != nil {
		return err
	}
	return c.NoContent(http.StatusNoContent)
}

func (s *Server) revisions(c *echo.Context) (model.RevisionPage, error) {
	list, next, err := readPage(c, s.control.Revisions.List, func(e *model.Revision) uint { return e.Number })
	sc := s.scopeOf(c)
	for i := range list {
		list[i] = revisionFor(list[i], whoOf(c), sc)
	}
	return model.RevisionPage{Revisions: list, Next: next}, err
}

// removeBundle publishes a revision without a bundle.
func (s *Server) removeBundle(c *echo.Context) (model.Published, error) {
	if err := s.ownsBundles(c, c.Param("bundle")); err != nil {
		return model.Published{}, err
	}
	expect, err := expected(c, matchMissing)
	if err != nil {
		return model.Published{}, err
	}
	ms, err := number(c, "waitMS", int(usualWait.Milliseconds()), 0, 60_000)
	if err != nil {
		return model.Published{}, err
	}
	p, err := s.control.Revisions.Remove(c.Request().Context(), revisions.Publication{
		Bundle:          c.Param("bundle"),
		Author:          actor.Name(c.Request().Context()),
		Message:         c.QueryParam("message"),
		Expect:          expect,
		Wait:            wait(&ms),
		RefuseUsedLinks: c.QueryParam("refuseUsedLinks") == "true",
	})
	return s.answered(c, p, err)
}

func (s *Server) publish(c *echo.Context, in model.PublishRequest) (model.Published, error) {
	bundles := append(slices.Collect(maps.Keys(in.Others)), cmp.Or(in.Bundle, model.MainBundle))
	if err := s.ownsBundles(c, bundles...); err != nil {
		return model.Published{}, err
	}
	expect, err := expected(c, matchMissing)
	if err != nil {
		return model.Published{}, err
	}
	p, err := s.control.Revisions.Publish(
		c.Request().Context(),
		revisions.Publication{
			Bundle:  cmp.Or(in.Bundle, model.MainBundle),
			Files:   from.ToFiles(in.Files),
			Others:  from.ToBundles(in.Others),
			Author:  actor.Name(c.Request().Context()),
			Message: in.Message,
			Expect:  expect,
			Wait:    wait(in.WaitMS),

			RefuseUsedLinks: in.RefuseUsedLinks,
		},
	)
	return s.answered(c, p, err)
}

func (s *Server) revision(c *echo.Context) (model.Revision, error) {
	n, err := pathNumber(c, "number", "revision")
	if err != nil {
		return model.Revision{}, err
	}
	rev, err := s.control.Revisions.Revision(c.Request().Context(), n)
	return revisionFor(from.Revision(rev), whoOf(c), s.scopeOf(c)), err
}

func (s *Server) revisionChanges(c *echo.Context) (model.RevisionChanges, error) {
	n, err := pathNumber(c, "number", "revision")
	if err != nil {
		return model.RevisionChanges{}, err
	}
	all, err := s.control.Revisions.Changes(c.Request().Context(), n)
	if sc := s.scopeOf(c); sc.IsLimited() {
		all.Changes = keep(all.Changes, func(c *model.Change) bool {
			return sc.OwnsBundle(rules.Origin{File: c.At.File}.Bundle())
		})
		all.Total = len(all.Changes)
	}
	return all, err
}

func (s *Server) restore(c *echo.Context, in model.RestoreRequest) (model.Published, error) {
	n, err := pathNumber(c, "number", "revision")
	if err != nil {
		return model.Published{}, err
	}
	expect, err := expected(c, matchMissing)
	if err != nil {
		return model.Published{}, err
	}
	p, err := s.control.Revisions.Restore(c.Request().Context(), n, revisions.Publication{
		Expect:          expect,
		Author:          actor.Name(c.Request().Context()),
		Message:         in.Message,
		Wait:            wait(in.WaitMS),
		RefuseUsedLinks: in.RefuseUsedLinks,
	})
	return s.answered(c, p, err)
}

// answered is what who calls is told of a revision that they made, or why there is none.
func (s *Server) answered(c *echo.Context, p model.Published, err error) (model.Published, error) {
	sc := s.scopeOf(c)
	if err == nil && !p.IsUnchanged {
		p.Notes = s.control.Follows.Notes(p.Revision, sc.OwnsBundle)
	}
	return publishedFor(p, sc), rejectionFor(err, sc)
}

func (s *Server) split(c *echo.Context, in model.SplitRequest) (model.Published, error) {
	if err := s.owns(c, c.Param("service")); err != nil {
		return model.Published{}, err
	}
	expect, err := expected(c, matchMissing)
	if err != nil {
		return model.Published{}, err
	}
	q := revisions.Publication{
		Author: actor.Name(c.Request().Context()), Message: in.Message,
		Expect: expect, Wait: wait(in.WaitMS)}
	p, err := s.control.Revisions.Split(c.Request().Context(), c.Param("service"), in.Route, in.Weights, q)
	return s.answered(c, p, err)
}
