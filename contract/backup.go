package contract

import "time"

// NewBackup is a backup of the service's own records to be made, which is sealed to public
// keys or to a passphrase.
type NewBackup struct {
	Recipients []string `json:"recipients,omitempty" maxItems:"20" doc:"Public keys of age: age1…"`
	Passphrase string   `json:"passphrase,omitempty" doc:"At least 12 characters."`
}

// BackupSchedule says where backups are written by themselves.
type BackupSchedule struct {
	Folder     string     `json:"folder" doc:"Address of a folder."`
	Recipients []string   `json:"recipients" minItems:"1" maxItems:"20" doc:"Public keys of age that a backup is sealed to: age1…"`
	Every      string     `json:"every" doc:"How often: 1d, 12h or 1w; at most every hour."`
	Keep       int        `json:"keep" minimum:"1" maximum:"1000" doc:"How many backups stay in the folder."`
	Last       *time.Time `json:"last,omitempty" doc:"When the last one was made."`
	LastName   string     `json:"last_name,omitempty"`
	LastSize   int64      `json:"last_size,omitempty" doc:"In bytes."`
	Failed     string     `json:"failed,omitempty" doc:"Why the last try failed; empty if it did not."`
	Overdue    bool       `json:"overdue,omitempty"`
}

// Backups is what is set about backups.
type Backups struct {
	Schedule *BackupSchedule `json:"schedule,omitempty" doc:"None if backups are made by hand alone."`
	// Restored is when the records were made that this service was restored from.
	Restored *time.Time `json:"restored,omitempty" doc:"When the backup was made that this service was restored from."`
}
