package cli

import (
	"fmt"
	"time"

	"github.com/spf13/cobra"

	"nightjar/backup"
	"nightjar/cli/out"
)

func (a *app) backup() *cobra.Command {
	var data string
	cmd := &cobra.Command{
		Use:   "backup FILE",
		Short: "Keep all records of a service in one file, while it is running",
		Long: `Write the records of the service on this machine into a new file: database, authority
with its key, signing key and archive. The service may be running. Whoever has the file
can issue certificates of the mesh: keep it like a key.`,
		Example: `  nightjar backup /var/backups/nightjar-2026-11-29.tar
  nightjar backup --data /var/lib/nightjar today.tar`,
		Args: exactly(1, "FILE"),
		RunE: func(cmd *cobra.Command, args []string) error {
			c, err := backup.Make(cmd.Context(), data, args[0], a.program)
			if err != nil {
				return err
			}
			return a.printer(cmd).Show(c, func(s *out.Sheet) { backupSheet(s, &c, "Backup in "+args[0]) })
		},
	}
	cmd.Flags().StringVar(&data, "data", defaultData(), "directory of the records")
	return cmd
}

func (a *app) restore() *cobra.Command {
	var data string
	cmd := &cobra.Command{
		Use:   "restore FILE",
		Short: "Put the records of a backup into an empty directory",
		Long: `Unpack a backup into a directory that is empty or missing; start the service on it
then. Proxies that follow a newer revision than the backup has keep following it, until
somebody publishes, or runs nightjar fleet adopt.`,
		Example: `  nightjar restore /var/backups/nightjar-2026-11-29.tar --data /var/lib/nightjar
  nightjar restore today.tar --data /tmp/looked-at -o json`,
		Args: exactly(1, "FILE"),
		RunE: func(cmd *cobra.Command, args []string) error {
			c, err := backup.Restore(cmd.Context(), args[0], data)
			if err != nil {
				return err
			}
			return a.printer(cmd).Show(c, func(s *out.Sheet) { backupSheet(s, &c, "Records restored into "+data) })
		},
	}
	cmd.Flags().StringVar(&data, "data", defaultData(), "directory of the records")
	return cmd
}

func backupSheet(s *out.Sheet, c *backup.Contents, done string) {
	s.Line("%s: %d files, %s MiB", done, len(c.Files), out.MiB(uint64(c.Bytes)))
	newest := "no revision"
	if c.Records.Revision > 0 {
		newest = fmt.Sprintf("revision %d of %s", c.Records.Revision, c.Records.At.Local().Format(time.DateTime))
	}
	s.Line(
		"Mesh %s, %s; made %s by program %s",
		c.Records.Mesh,
		newest,
		c.Made.Local().Format(time.DateTime),
		c.Program,
	)
}
