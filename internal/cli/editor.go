package cli

import (
	"bytes"
	"encoding/json"
	"os"
	"os/exec"
)

// inEditor lets a person change an object in an editor.
func (a *app) inEditor(before []byte) ([]byte, error) {
	in, ok := a.asks()
	if !ok {
		return nil, usage("say what is to be changed: --set NAME=VALUE, --unset NAME or --file FILE")
	}
	var text bytes.Buffer
	if err := json.Indent(&text, before, "", "  "); err != nil {
		return nil, err
	}
	f, err := os.CreateTemp("", "trellis-item-*.json")
	if err != nil {
		return nil, err
	}
	defer os.Remove(f.Name())
	if _, err := f.Write(append(text.Bytes(), '\n')); err != nil {
		return nil, err
	}
	if err := f.Close(); err != nil {
		return nil, err
	}
	editor := os.Getenv("EDITOR")
	if editor == "" {
		editor = "vi"
	}
	c := exec.Command("sh", "-c", editor+` "$1"`, "sh", f.Name())
	c.Stdin, c.Stdout, c.Stderr = in, os.Stdout, os.Stderr
	if err := c.Run(); err != nil {
		return nil, usage("the editor %s could not be used: %v. Say it with --set or --file", editor, err)
	}
	return a.edited(before, nil, nil, f.Name())
}
