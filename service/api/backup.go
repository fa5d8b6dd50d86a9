package api

import (
	"context"
	"encoding/json"
	"fmt"
	"net/http"
	"strings"
	"time"

	"github.com/danielgtaylor/huma/v2"
	"github.com/gin-gonic/gin"

	"deftheron/contract"
	"deftheron/core/job"
	"deftheron/core/remedy"
	"deftheron/service/backup"
	"deftheron/service/records"
)

func (s *Server) registerBackups(api huma.API) {
	add(api, http.MethodGet, "/backup-schedule", "show-backups", "Show the schedule of backups, and what came of the last", http.StatusOK,
		s.showBackups)
	add(api, http.MethodPut, "/backup-schedule", "set-backups", "Have backups written to a folder by a schedule", http.StatusOK, s.setBackups)
	add(api, http.MethodDelete, "/backup-schedule", "end-backups", "End the schedule of backups", http.StatusNoContent, s.endBackups)
}

// makeBackup answers with a backup, which is never unsealed on its way.
func (s *Server) makeBackup(c *gin.Context) {
	var asked contract.NewBackup
	decoder := json.NewDecoder(http.MaxBytesReader(c.Writer, c.Request.Body, 64<<10))
	decoder.DisallowUnknownFields()
	if err := decoder.Decode(&asked); err != nil {
		refuse(c, &contract.Problem{Status: http.StatusBadRequest,
			Detail: "The request cannot be read: it is not what the document of the API describes."})
		return
	}
	recipients, err := backup.Recipients(asked.Recipients, asked.Passphrase)
	if err != nil {
		refuse(c, problem(err))
		return
	}
	c.Header("Content-Type", "application/octet-stream")
	name := "heron-" + s.Instance + "-" + time.Now().UTC().Format("20060102-150405") + ".tar.age"
	c.Header("Content-Disposition", fmt.Sprintf("attachment; filename=%q", name))
	if _, err := backup.Create(c.Request.Context(), s.Backups.Source, c.Writer, recipients); err != nil {
		if !c.Writer.Written() {
			c.Header("Content-Disposition", "")
			refuse(c, problem(err))
			return
		}
		s.Log.ErrorContext(c.Request.Context(), "a backup broke off", "error", err)
		panic(http.ErrAbortHandler)
	}
}

func (s *Server) showBackups(ctx context.Context, _ *none) (*body[contract.Backups], error) {
	schedule, err := s.Backups.Schedule(ctx)
	if err != nil {
		return nil, err
	}
	shown := contract.Backups{}
	if schedule != nil {
		shown.Schedule = &contract.BackupSchedule{Folder: schedule.Folder, Recipients: schedule.Recipients, Every: schedule.Every.String(),
			Keep: schedule.Keep, LastName: schedule.LastName, LastSize: schedule.LastSize, Failed: schedule.Failed,
			Overdue: schedule.Overdue(s.Access.Now())}
		if !schedule.Last.IsZero() {
			shown.Schedule.Last = &schedule.Last
		}
	}
	restored, err := s.DB.Meta(ctx, records.MetaRestored)
	if made, _, ok := strings.Cut(restored, " "); ok {
		if at, err := time.Parse(time.RFC3339, made); err == nil {
			shown.Restored = &at
		}
	}
	return &body[contract.Backups]{shown}, err
}

func (s *Server) setBackups(ctx context.Context, in *body[contract.BackupSchedule]) (*body[contract.Backups], error) {
	now := s.Access.Now()
	before, err := job.ParseAge(in.Body.Every, now)
	every := now.Sub(before)
	if err != nil {
		if every, err = time.ParseDuration(in.Body.Every); err != nil {
			return nil, remedy.Errorf("%q is not how often backups can be made; write it as 1d, 12h or 1w", in.Body.Every)
		}
	}
	schedule := backup.Schedule{Folder: in.Body.Folder, Recipients: in.Body.Recipients, Every: every, Keep: in.Body.Keep}
	if err := s.Backups.Set(ctx, &schedule); err != nil {
		return nil, err
	}
	s.Backups.Make(ctx, schedule) // so that what is wrong with it shows at once
	return s.showBackups(ctx, nil)
}

func (s *Server) endBackups(ctx context.Context, _ *none) (*none, error) {
	return &none{}, s.Backups.Set(ctx, nil)
}
