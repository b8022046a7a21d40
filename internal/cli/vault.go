package cli

import (
	"fmt"
	"path/filepath"

	"github.com/spf13/cobra"

	"youngtrellis/internal/store"
	"youngtrellis/internal/vault"
)

func (a *app) vault() *cobra.Command {
	return noun("vault", "The keys that credentials are sealed with", a.vaultRotate(), a.vaultDrop())
}

// withVault opens the database and finds the key file, on the machine of the service.
func (a *app) withVault(c *cobra.Command, f *serveFlags, body func(*store.Store, string) error) error {
	if err := environment(c.Flags()); err != nil {
		return err
	}
	address, err := f.databaseURL()
	if err != nil {
		return err
	}
	s, err := store.Open(c.Context(), address, "")
	if err != nil {
		return explainStart(err, f.database)
	}
	defer s.Close()
	path := f.vault
	if path == "" {
		path = filepath.Join(f.data, "vault.key")
	}
	return body(s, path)
}

func (a *app) vaultRotate() *cobra.Command {
	f := &serveFlags{}
	c := &cobra.Command{Use: "rotate", Short: "Seal everything with new keys, while services run", RunE: func(c *cobra.Command, _ []string) error {
		return a.withVault(c, f, func(s *store.Store, path string) error {
			r, err := vault.Rotate(c.Context(), s, path)
			if err != nil {
				return err
			}
			return a.show(r, func() {
				fmt.Fprintf(a.out, "%s of %s sealed with new keys; the key file's fingerprint is now %s\nCopy %s to every machine of the service, save it where the old one was saved, then: trellis vault drop-old\n",
					plural(r.Secrets, "secret"), plural(r.Workspaces, "workspace"), r.Fingerprint, path)
			})
		})
	}}
	f.register(c.Flags())
	return c
}

func (a *app) vaultDrop() *cobra.Command {
	f := &serveFlags{}
	c := &cobra.Command{Use: "drop-old", Short: "Take keys that open nothing any more out of the key file", RunE: func(c *cobra.Command, _ []string) error {
		return a.withVault(c, f, func(s *store.Store, path string) error {
			n, err := vault.DropOld(c.Context(), s, path)
			if err != nil {
				return err
			}
			return a.show(map[string]int{"dropped": n}, func() { fmt.Fprintf(a.out, "%s taken out of %s\n", plural(n, "old key"), path) })
		})
	}}
	f.register(c.Flags())
	return c
}
