package client

import (
	"context"
	"io"
	"net/http"

	"deftheron/contract"
)

// Backup writes a backup of the service's records, sealed.
func (c *Client) Backup(ctx context.Context, asked contract.NewBackup, w io.Writer) (int64, error) {
	response, err := c.request(ctx, http.MethodPost, "/backups", nil, asked, nil)
	if err != nil {
		return 0, err
	}
	defer response.Body.Close()
	return io.Copy(w, response.Body)
}

// Backups returns the settings of backups.
func (c *Client) Backups(ctx context.Context) (backups contract.Backups, err error) {
	return backups, c.call(ctx, http.MethodGet, "/backup-schedule", nil, nil, &backups)
}

// SetBackups has backups written by a schedule, and makes one.
func (c *Client) SetBackups(ctx context.Context, schedule contract.BackupSchedule) (backups contract.Backups, err error) {
	return backups, c.call(ctx, http.MethodPut, "/backup-schedule", nil, schedule, &backups)
}

// EndBackups ends the schedule.
func (c *Client) EndBackups(ctx context.Context) error {
	return c.call(ctx, http.MethodDelete, "/backup-schedule", nil, nil, nil)
}

// Diagnose looks at the service and its machine.
func (c *Client) Diagnose(ctx context.Context) (found contract.Diagnosis, err error) {
	return found, c.call(ctx, http.MethodGet, "/diagnosis", nil, nil, &found)
}
