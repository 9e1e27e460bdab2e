package api

import (
	"io"
	"net/http"
	"strconv"
	"time"

	"github.com/labstack/echo/v5"

	"nightjar/api/model"
	"nightjar/control/people"
)

// programsPath takes programs for the fleet.
const programsPath = "/fleet/programs"

// programTime is how long a program may take on its way.
const programTime = 2 * time.Minute

// upgradeOperations are about the programs of the fleet.
func (s *Server) upgradeOperations() []Operation {
	return []Operation{
		{
			Method:  http.MethodPut,
			Path:    programsPath,
			ID:      "uploadProgram",
			Summary: "Upload a program for the fleet: the body is the file",
			Out:     model.Program{},
			Media:   "application/json",
			Status:  http.StatusOK,
			Needs:   people.Admin,
			handle:  s.uploadProgram,
		},
		create(
			"/fleet/upgrades",
			"startUpgrade",
			"Have the fleet take a program that was uploaded, wave by wave; it is taken back when proxies do worse",
			func(c *echo.Context, in model.UpgradeRequest) (model.Upgrade, error) {
				return s.control.Upgrades.Start(c.Request().Context(), in)
			},
		).needing(people.Admin),
		get("/fleet/upgrades", "upgrades", "Upgrades of the fleet, newest first",
			func(c *echo.Context) (model.UpgradeList, error) {
				return s.control.Upgrades.List(c.Request().Context())
			}),
		act(
			"/fleet/upgrades/:upgrade/take-back",
			"takeBackUpgrade",
			"Have the proxies that took the program of the newest upgrade run the one before again",
			s.takeBack,
		).needing(people.Admin),
	}
}

func (s *Server) uploadProgram(c *echo.Context) error {
	out := http.NewResponseController(c.Response())
	out.SetReadDeadline(time.Now().Add(programTime))
	out.SetWriteDeadline(time.Now().Add(programTime + answerTime))
	p, err := s.control.Upgrades.Upload(c.Request().Body)
	if err != nil {
		return err
	}
	return c.JSON(http.StatusOK, p)
}

func (s *Server) takeBack(c *echo.Context) (model.Upgrade, error) {
	n, err := strconv.ParseUint(c.Param("upgrade"), 10, 32)
	if err != nil {
		return model.Upgrade{}, failed(http.StatusNotFound, "not-found", "there is no upgrade %s", c.Param("upgrade"))
	}
	return s.control.Upgrades.TakeBack(c.Request().Context(), uint(n))
}

// program sends a program to one proxy.
func (s *Server) program(c *echo.Context) error {
	f, done, err := s.control.Upgrades.Program(c.Request().Context(), c.Param("hash"))
	if err != nil {
		return err
	}
	defer done()
	info, err := f.Stat()
	if err != nil {
		return err
	}
	w := c.Response()
	http.NewResponseController(w).SetWriteDeadline(time.Now().Add(programTime))
	w.Header().Set("Content-Type", "application/octet-stream")
	w.Header().Set("Content-Length", strconv.FormatInt(info.Size(), 10))
	w.WriteHeader(http.StatusOK)
	_, err = io.Copy(w, f)
	return err
}
