package contract_test

import (
	"testing"

	"deftheron/contract"
)

func TestCapital(t *testing.T) {
	for text, want := range map[string]string{
		"": "", "the run failed": "The run failed", "élan": "Élan", "/desk/a": "/desk/a", "3 files": "3 files", "\xffx": "\xffx", "Done": "Done",
	} {
		if got := contract.Capital(text); got != want {
			t.Errorf("%q becomes %q, want %q", text, got, want)
		}
	}
}
