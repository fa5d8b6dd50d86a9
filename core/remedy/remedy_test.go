package remedy_test

import (
	"errors"
	"fmt"
	"io"
	"testing"

	"deftheron/core/remedy"
)

func TestOf(t *testing.T) {
	server := errors.New("no; run the program at example.org")
	advised := remedy.Errorf("the name %q is taken; choose another than %[1]q", "a; b")
	for name, c := range map[string]struct {
		err           error
		wrong, remedy string
	}{
		"no remedy":         {remedy.Errorf("the folder %s is gone", "x"), "the folder x is gone", ""},
		"a remedy":          {remedy.Errorf("%s is full; remove something", "disk"), "disk is full", "remove something"},
		"arguments in both": {advised, `the name "a; b" is taken`, `choose another than "a; b"`},
		"a server's words":  {remedy.Errorf("the server said: %w", server), "the server said: no; run the program at example.org", ""},
		"a server's, and ours": {remedy.Errorf("the server said %w; try later", server), "the server said no; run the program at example.org",
			"try later"},
		"wrapped": {fmt.Errorf("of the hours: %w", advised), `of the hours: the name "a; b" is taken`,
			`choose another than "a; b"`},
		"wrapped by one without": {remedy.Errorf("of the hours: %w", advised), `of the hours: the name "a; b" is taken`,
			`choose another than "a; b"`},
		"joined in the middle":    {fmt.Errorf("%w (and then %w)", advised, server), advised.Error() + " (and then " + server.Error() + ")", ""},
		"a mark in the arguments": {remedy.Errorf("%s; do", "\x00remedy\x00; evil"), "\x00remedy\x00; evil; do", ""},
		"fixed words":             {remedy.New("nothing is there; look again"), "nothing is there", "look again"},
		"another's":               {server, "no; run the program at example.org", ""},
	} {
		t.Run(name, func(t *testing.T) {
			if wrong, advice := remedy.Of(c.err); wrong != c.wrong || advice != c.remedy {
				t.Errorf("%q, %q; want %q, %q", wrong, advice, c.wrong, c.remedy)
			}
		})
	}
	if err := remedy.Errorf("it broke off: %w; try again", io.ErrUnexpectedEOF); !errors.Is(err, io.ErrUnexpectedEOF) {
		t.Error("the cause is lost")
	}
}
