package rollout

import (
	"widegate/internal/engine"
	"widegate/internal/sqltext"
)

// statement is one of a script, as it is sent.
type statement struct {
	sqltext.Statement
	text string
	rank engine.Rank
}

func rankOf(text string, e engine.Engine) engine.Rank {
	for _, r := range e.Rollout().Ranks {
		if r.Form.MatchString(text) {
			return r.Rank
		}
	}
	return engine.Work
}

// whole reports whether all statements may run in one transaction that the script
// does not begin itself.
func (s *Script) whole(r *engine.Rollout) bool {
	if !r.Whole {
		return false
	}
	for _, st := range s.statements {
		if st.rank != engine.Work && (st.rank != engine.Settles || r.SettingsOutside) {
			return false
		}
	}
	return true
}
