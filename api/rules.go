package api

import (
	"cmp"
	"errors"
	"net/http"

	"github.com/labstack/echo/v5"

	"nightjar/api/from"
	"nightjar/api/model"
	"nightjar/control/revisions"
	"nightjar/core/rules"
	"nightjar/store"
)

// ruleOperations are about rules, drafts and revisions.
func (s *Server) ruleOperations() []Operation {
	authorParam := Param{"by", "string", "whose draft it is"}
	schema := Operation{
		Method:  http.MethodGet,
		Path:    "/rules/schema",
		ID:      "schema",
		Summary: "The JSON Schema of a rule file",
		Media:   "application/schema+json",
		Status:  http.StatusOK,
		handle:  s.schema,
	}
	deleteDraft := Operation{
		Method:  http.MethodDelete,
		Path:    "/drafts/:bundle",
		ID:      "deleteDraft",
		Summary: "Delete a draft",
		Params:  []Param{authorParam},
		Status:  http.StatusNoContent,
		handle:  s.deleteDraft,
	}
	return []Operation{
		send(
			http.MethodPost,
			"/rules/check",
			"check",
			"Check the files of a bundle and compare them with what is in force",
			s.check,
		),
		send(http.MethodPost, "/rules/format", "format", "Format rule files; comments stay", s.format),
		schema,
		get("/drafts", "drafts", "Who is editing which bundle", s.drafts),
		get("/drafts/:bundle", "draft", "The files that somebody is editing", s.draft, authorParam),
		send(http.MethodPut, "/drafts/:bundle", "saveDraft", "Save the files that somebody is editing", s.saveDraft).
			matching("version of the draft in quotes, 0 when there is none yet; 412 when it has another version"),
		deleteDraft,
		get(
			"/services/:service/effective",
			"effective",
			"What holds for a service after policies and defaults, each value with its origin",
			func(c *echo.Context) (model.EffectiveSettings, error) {
				return s.control.Views.Effective(c.Param("service"))
			},
		),
		get("/revisions", "revisions", "Published revisions, newest first", s.revisions, pageParams...),
		create(
			"/revisions",
			"publish",
			"Publish the files of a bundle as a new revision, and wait until the proxies have it in force",
			s.publish,
		).
			matching(revisionMatch),
		get("/revisions/:number", "revision", "One revision with its files; 0 is the one in force", s.revision),
		create("/revisions/:number/restore", "restore", "Publish an earlier revision again", s.restore),
		create(
			"/services/:service/split",
			"split",
			"Change the weights of one route, as a new revision",
			s.split,
		).matching(revisionMatch),
	}
}

func (s *Server) check(c *echo.Context, in model.CheckRequest) (model.CheckReport, error) {
	bundle, files := cmp.Or(in.Bundle, model.MainBundle), from.ToFiles(in.Files)
	if in.IsDraft {
		return s.control.Revisions.CheckDraft(bundle, files)
	}
	return s.control.Revisions.Check(c.Request().Context(), bundle, files, in.By)
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

func (s *Server) schema(c *echo.Context) error {
	return c.Blob(http.StatusOK, "application/schema+json", rules.Schema)
}

func (s *Server) drafts(c *echo.Context) (model.DraftList, error) {
	list, err := s.control.Revisions.Drafts(c.Request().Context())
	return model.DraftList{Drafts: list}, err
}

func (s *Server) draft(c *echo.Context) (model.Draft, error) {
	return s.control.Revisions.Draft(c.Request().Context(), c.Param("bundle"), c.QueryParam("by"))
}

func (s *Server) saveDraft(c *echo.Context, in model.DraftRequest) (model.Draft, error) {
	expect, err := expected(c)
	if err != nil {
		return model.Draft{}, err
	}
	if expect == nil {
		return model.Draft{}, failed(http.StatusPreconditionRequired, "if-match",
			"If-Match is missing: send the version of the draft in quotes, or \"0\" when there is none yet")
	}
	d, err := s.control.Revisions.SaveDraft(c.Request().Context(), c.Param("bundle"), in, *expect)
	if errors.Is(err, store.ErrDraftChanged) {
		return d, failed(
			http.StatusPreconditionFailed,
			"draft-changed",
			"cannot save the draft: it was changed elsewhere meanwhile. Read it again, or save yours under "+
				"another name.",
		)
	}
	return d, err
}

func (s *Server) deleteDraft(c *echo.Context) error {
	err := s.control.Revisions.DeleteDraft(c.Request().Context(), c.Param("bundle"), c.QueryParam("by"))
	if err != nil {
		return err
	}
	return c.NoContent(http.StatusNoContent)
}

func (s *Server) revisions(c *echo.Context) (model.RevisionPage, error) {
	list, next, err := readPage(c, s.control.Revisions.List, func(e *model.Revision) uint { return e.Number })
	return model.RevisionPage{Revisions: list, Next: next}, err
}

func (s *Server) publish(c *echo.Context, in model.PublishRequest) (model.Published, error) {
	expect, err := expected(c)
	if err != nil {
		return model.Published{}, err
	}
	return s.control.Revisions.Publish(
		c.Request().Context(),
		revisions.Publication{
			Bundle:  cmp.Or(in.Bundle, model.MainBundle),
			Files:   from.ToFiles(in.Files),
			Author:  in.Author,
			Message: in.Message,
			Expect:  expect,
			Wait:    wait(in.WaitMS),

			RefuseUsedLinks: in.RefuseUsedLinks,
		},
	)
}

func (s *Server) revision(c *echo.Context) (model.Revision, error) {
	n, err := pathNumber(c, "number", "revision")
	if err != nil {
		return model.Revision{}, err
	}
	rev, err := s.control.Revisions.Revision(c.Request().Context(), n)
	return from.Revision(rev), err
}

func (s *Server) restore(c *echo.Context, in model.RestoreRequest) (model.Published, error) {
	n, err := pathNumber(c, "number", "revision")
	if err != nil {
		return model.Published{}, err
	}
	return s.control.Revisions.Restore(c.Request().Context(), n, revisions.Publication{
		Author:          in.Author,
		Message:         in.Message,
		Wait:            wait(in.WaitMS),
		RefuseUsedLinks: in.RefuseUsedLinks,
	})
}

func (s *Server) split(c *echo.Context, in model.SplitRequest) (model.Published, error) {
	expect, err := expected(c)
	if err != nil {
		return model.Published{}, err
	}
	q := revisions.Publication{Author: in.Author, Message: in.Message, Expect: expect, Wait: wait(in.WaitMS)}
	return s.control.Revisions.Split(c.Request().Context(), c.Param("service"), in.Route, in.Weights, q)
}
