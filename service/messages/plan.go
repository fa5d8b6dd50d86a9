package messages

import (
	"fmt"

	"deftheron/core/plan"
	"deftheron/core/store"
	"deftheron/core/transfer"
)

// Basis says what an estimate of time is made from; empty if there is none.
func Basis(estimate plan.Estimate) string {
	switch estimate.Basis {
	case plan.BasisNothingToDo:
		return "there is nothing to transfer"
	case plan.BasisRuns:
		if estimate.Runs == 1 {
			return "the last run between these accounts"
		}
		return fmt.Sprintf("the last %d runs between these accounts", estimate.Runs)
	case plan.BasisSpeed:
		return "the last speed checks of the accounts"
	}
	return ""
}

// Verifying says how what is written to an account is verified.
func Verifying(by transfer.Verifying) string {
	switch {
	case by.Level == store.VerifyByReading:
		return "read back and compared with what was sent"
	case by.Kind != "":
		return fmt.Sprintf("the %s that the target reports is compared with the %[1]s of the bytes sent", by.Kind)
	case by.Level == store.VerifyBySize:
		return "by size only, as requested"
	}
	return "read back, because the target reports no hash"
}
