package cli

import (
	"encoding/json"
	"fmt"
	"strings"

	"github.com/google/uuid"
	"github.com/spf13/cobra"

	api "youngtrellis/api/client"
)

func (a *app) workflowAddress() *cobra.Command {
	var made bool
	var file, end, in string
	c := &cobra.Command{
		Use: "address NAME", Short: "Where a form is, or the call sheet of a webhook and its secrets",
		Long:    "Tells where a form is opened, or where a workflow is called and how a call proves itself. It has two secrets at most: make a second one,\nlet the callers change to it, and end the first.",
		Example: "  trellis workflow address counter-calls\n  trellis workflow address counter-calls --new-secret\n  trellis workflow address counter-calls --secret-file key.txt",
		RunE: a.signedIn(func(c *cobra.Command, cl *api.Client, args []string) error {
			sheet, err := got[api.CallSheet](cl.CallSheet(c.Context(), args[0]))
			if err != nil {
				return err
			}
			if !api.CallSheetCallsIn(in).Valid() {
				return usage("--in is %q; it can be curl, python or javascript", in)
			}
			switch {
			case made || file != "":
				return a.newHookSecret(c, cl, args[0], file)
			case end != "":
				id, err := uuid.Parse(end)
				if err != nil {
					return usage("--end-secret %q is no id of a secret; trellis workflow address %s lists those in use", end, args[0])
				}
				if _, err := got[json.RawMessage](cl.EndHookSecret(c.Context(), args[0], id)); err != nil {
					return err
				}
				fmt.Fprintln(a.out, "It is ended: nobody proves anything by it from now on.")
				return nil
			}
			return a.show(sheet, func() { a.callSheet(sheet, args[0], in) })
		}),
	}
	c.Flags().BoolVar(&made, "new-secret", false, "make a secret that callers prove, and print it once")
	c.Flags().StringVar(&file, "secret-file", "", "file with a secret that the other side gave; - for standard input")
	c.Flags().StringVar(&end, "end-secret", "", "end the secret of this id")
	c.Flags().StringVar(&in, "in", "curl", "how a call is shown: curl, python or javascript")
	c.MarkFlagsMutuallyExclusive("new-secret", "secret-file", "end-secret")
	return c
}

// workflowCall calls an address for a test.
func (a *app) workflowCall() *cobra.Command {
	var file, sample string
	c := &cobra.Command{
		Use: "call NAME", Short: "Call a webhook for a test, as the other side would; live, it starts a run as any call",
		Long:    "Sends a sample, or what a file says, through the same door as any call, with the proof that the workflow asks for.\nWhere a sample is taken, it becomes one.",
		Example: "  trellis workflow call counter-calls\n  trellis workflow call counter-calls --file call.json",
		RunE: a.signedIn(func(c *cobra.Command, cl *api.Client, args []string) error {
			body := api.TestCallJSONRequestBody{}
			if file != "" {
				items, err := a.items(file)
				if err != nil {
					return err
				}
				if len(items) != 1 {
					return usage("%s holds %s; a call sends one", file, plural(len(items), "item"))
				}
				body.Fields = &items[0]
			}
			if sample != "" {
				id, err := uuid.Parse(sample)
				if err != nil {
					return usage("--sample %q is no id of a sample; trellis sample list %s lists them", sample, args[0])
				}
				body.Sample = &id
			}
			got, err := got[api.TestedCall](cl.TestCall(c.Context(), args[0], body))
			if err != nil {
				return err
			}
			if err := a.show(got, func() {
				fmt.Fprintf(a.out, "sent      %s\nanswered  %d\n", short(got.Sent, 200), got.Status)
				if got.Said != "" {
					fmt.Fprintf(a.out, "%s\n", got.Said)
				}
				if got.Run != nil {
					fmt.Fprintf(a.out, "See what became of it: trellis run show %s\n", got.Run)
				}
			}); err != nil {
				return err
			}
			if got.Status >= 400 {
				return fmt.Errorf("the call was refused; trellis sample list %s says why", args[0])
			}
			return nil
		}),
	}
	c.Flags().StringVar(&file, "file", "", "file with the item to send, as JSON; - for standard input")
	c.Flags().StringVar(&sample, "sample", "", "id of the sample to send; the first unless said")
	c.MarkFlagsMutuallyExclusive("file", "sample")
	return c
}

func (a *app) newHookSecret(c *cobra.Command, cl *api.Client, name, file string) error {
	body := api.MakeHookSecretJSONRequestBody{}
	if file != "" {
		text, err := a.read(file)
		if err != nil {
			return err
		}
		given := strings.TrimRight(string(text), "\r\n")
		if given == "" {
			return usage("%s holds no secret", file)
		}
		body.Secret = &given
	}
	made, err := got[api.MadeSecret](cl.MakeHookSecret(c.Context(), name, body))
	if err != nil {
		return err
	}
	return a.show(made, func() {
		if made.Secret != nil {
			fmt.Fprintf(a.out, "%s\nThis secret is shown once. ", *made.Secret)
		}
		fmt.Fprintln(a.out, "Calls prove themselves by it from now on; one that was there before counts until you end it.")
	})
}

func (a *app) callSheet(sheet api.CallSheet, name, in string) {
	fmt.Fprintf(a.out, "%s\n%s\n", sheet.Address, sheet.Proof)
	if deref(sheet.Page) {
		if !deref(sheet.Open) {
			fmt.Fprintf(a.out, "It can be opened once the workflow is live, or while a sample is taken: trellis sample take %s\n", name)
		}
		return
	}
	for _, x := range sheet.Calls {
		if string(x.In) == in {
			fmt.Fprintf(a.out, "\n%s\n", x.Text)
		}
	}
	fmt.Fprintf(a.out, "\nIt is answered: %s\n", sheet.Answer)
	if sheet.Verify == api.None {
		return
	}
	if len(sheet.Secrets) == 0 {
		fmt.Fprintf(a.out, "\nNo secret has been made yet. Make it with: trellis workflow address %s --new-secret\n", name)
		return
	}
	fmt.Fprintln(a.out, "\nSecrets in use:")
	for _, s := range sheet.Secrets {
		used := "never used"
		if s.Used != nil {
			used = "used last " + when(*s.Used)
		}
		fmt.Fprintf(a.out, "  %s  made %s by %s, %s\n", s.Id, when(s.Made), s.MadeBy, used)
	}
}
