package messages

import "errors"

// With adds to an error the commands of a terminal that do what its remedy says. The words of
// the error name none: the console has buttons and links for them.
func With(err error, commands ...string) error { return &withCommands{err, commands} }

// CommandsOf returns the commands that were added to an error.
func CommandsOf(err error) []string {
	var with *withCommands
	if errors.As(err, &with) {
		return with.commands
	}
	return nil
}

type withCommands struct {
	error
	commands []string
}

func (w *withCommands) Unwrap() error { return w.error }
