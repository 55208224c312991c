package cli

import (
	"os"

	"github.com/spf13/cobra"
	"github.com/spf13/cobra/doc"

	"widegate/internal/fault"
)

func (a *app) manCommand() *cobra.Command {
	return &cobra.Command{
		Use:   "man FOLDER",
		Short: "Write the manual pages",
		Long: `Writes a manual page for each command into a folder, in the format of man(7).
With /usr/local/share/man/man1 ` + "`man widegate-write`" + ` finds them.`,
		Example: `  widegate man ./man && man ./man/widegate.1`,
		Args:    usage(cobra.ExactArgs(1)),
		RunE: func(cmd *cobra.Command, args []string) error {
			if err := os.MkdirAll(args[0], 0o755); err != nil {
				return fault.New("name a folder that you may write to", "making the folder: %w", err)
			}
			root := cmd.Root()
			root.DisableAutoGenTag = true
			if err := doc.GenManTree(root, &doc.GenManHeader{Section: "1", Source: "Wide Gate", Manual: "Wide Gate"}, args[0]); err != nil {
				return fault.New("name a folder that you may write to", "writing the manual pages: %w", err)
			}
			a.say("Wrote the manual pages to %s.", args[0])
			return nil
		},
	}
}
