package cli_test

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"strings"
	"testing"
	"time"

	"mvdan.cc/sh/v3/interp"
	"mvdan.cc/sh/v3/syntax"

	"youngtrellis/internal/cli"
	"youngtrellis/internal/cluster/clustertest"
)

func TestMain(m *testing.M) { clustertest.Main(m) }

func within(t *testing.T, d time.Duration) context.Context {
	ctx, cancel := context.WithTimeout(context.Background(), d)
	t.Cleanup(cancel)
	return ctx
}

// said runs a command as a person would, and gives what it printed and its exit code.
func said(t *testing.T, config, in string, args ...string) (string, int) {
	t.Helper()
	var out bytes.Buffer
	code := cli.Run(within(t, 30*time.Second), append([]string{"--config", config}, args...), strings.NewReader(in), &out, &out)
	return out.String(), code
}

// typed runs a line of a shell, in which trellis is this program.
func typed(ctx context.Context, config, dir, line string) (string, int) {
	var out bytes.Buffer
	ctx, cancel := context.WithTimeout(ctx, 20*time.Second)
	defer cancel()
	file, err := syntax.NewParser().Parse(strings.NewReader(line), "")
	if err != nil {
		return err.Error(), 2
	}
	r, err := interp.New(interp.Dir(dir), interp.StdIO(strings.NewReader(""), &out, &out), interp.ExecHandlers(func(interp.ExecHandlerFunc) interp.ExecHandlerFunc {
		return func(ctx context.Context, args []string) error {
			if args[0] != "trellis" {
				return fmt.Errorf("%s is not there", args[0])
			}
			h := interp.HandlerCtx(ctx)
			var in io.Reader = strings.NewReader("")
			if h.Stdin != nil {
				in = h.Stdin
			}
			code := cli.Run(ctx, append([]string{"--config", config}, args[1:]...), in, h.Stdout, h.Stderr)
			if code != 0 {
				return interp.ExitStatus(code)
			}
			return nil
		}
	}))
	if err != nil {
		return err.Error(), 2
	}
	var status interp.ExitStatus
	switch err := r.Run(ctx, file); {
	case err == nil:
		return out.String(), 0
	case errors.As(err, &status):
		return out.String(), int(status)
	default:
		return out.String() + err.Error(), 1
	}
}
