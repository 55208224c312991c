package migration

import (
	"fmt"
	"os"
	"path/filepath"
	"regexp"
	"strings"

	"widegate/internal/fault"
)

var (
	numbered  = regexp.MustCompile(`^(\d+)([_.-])`)
	notInName = regexp.MustCompile(`[^\pL\pN]+`)
)

// FileNames are those of the next scripts, there and back, in a folder of
// numbered migrations: with as many digits, the same sign behind them and the
// same endings as the files that are there.
func FileNames(folder, what string) (there, back string, err error) {
	entries, err := os.ReadDir(folder)
	if err != nil && !os.IsNotExist(err) {
		return "", "", fault.New("name a folder that may be written", "looking at the folder of migrations: %w", err)
	}
	last, digits, sign, ending := 0, 4, "_", ".sql"
	for _, e := range entries {
		m := numbered.FindStringSubmatch(e.Name())
		if m == nil {
			continue
		}
		var n int
		if _, err := fmt.Sscan(strings.TrimLeft(m[1], "0")+" ", &n); err != nil && strings.Trim(m[1], "0") != "" {
			continue
		}
		if n >= last {
			last, digits, sign = n, len(m[1]), m[2]
		}
		if strings.HasSuffix(e.Name(), ".up.sql") {
			ending = ".up.sql"
		}
	}
	what = strings.Trim(notInName.ReplaceAllString(strings.ToLower(what), "_"), "_")
	if what == "" {
		what = "changes"
	}
	stem := fmt.Sprintf("%0*d%s%s", digits, last+1, sign, what)
	return filepath.Join(folder, stem+ending), filepath.Join(folder, stem+".down.sql"), nil
}
