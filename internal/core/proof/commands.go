package proof

import (
	"bytes"
	"encoding/json"
	"fmt"
	"strings"
)

// Example is a call that is shown to the other side: where it goes, and its body, JSON.
type Example struct {
	Method, Address, Body string
}

// secretHere stands in place of the secret in what is shown.
const secretHere = "YOUR_SECRET"

// Curl is the call as a command of a shell.
func (r Rule) Curl(x Example) string {
	r = r.whole()
	body := "'" + strings.ReplaceAll(x.Body, "'", `'\''`) + "'"
	call := "curl -X " + x.Method + " '" + x.Address + "' \\\n  -H 'Content-Type: application/json' \\\n"
	switch r.Way {
	case Open:
		return call + "  -d " + body
	case Bearer:
		return call + "  -H 'Authorization: Bearer " + secretHere + "' \\\n  -d " + body
	case Basic:
		return call + "  -u " + or(r.User, "caller") + ":" + secretHere + " \\\n  -d " + body
	case InHeader:
		return call + "  -H '" + r.Header + ": " + secretHere + "' \\\n  -d " + body
	}
	out := "BODY=" + body + "\n"
	if r.TimeIn != "" {
		out += "TIME=$(date +%s)\n"
		call += "  -H \"" + r.TimeIn + ": $TIME\" \\\n"
	}
	if r.IDIn != "" {
		out += "ID=$(cat /proc/sys/kernel/random/uuid)\n"
		call += "  -H \"" + r.IDIn + ": $ID\" \\\n"
	}
	key := "-hmac '" + secretHere + "'"
	if r.Way == Standard {
		out += "KEY=$(printf %s '" + secretHere + "' | sed s/^" + StandardPrefix + "// | base64 -d | od -An -v -tx1 | tr -d ' \\n')\n"
		key = "-mac HMAC -macopt \"hexkey:$KEY\""
	}
	write := "od -An -v -tx1 | tr -d ' \\n'"
	if r.Base64 {
		write = "base64 -w0"
	}
	signed := r.filled(inShell.Replace, "$TIME", "$ID", "$BODY")
	out += "SIGN=$(printf %s \"" + signed + "\" | openssl dgst -" + or(r.Hash, "sha256") + " " + key + " -binary | " + write + ")\n"
	return out + call + "  -H \"" + r.Header + ": " + r.Prefix + "$SIGN\" \\\n  --data-binary \"$BODY\""
}

// inShell writes a text between double quotes of a shell.
var inShell = strings.NewReplacer(`\`, `\\`, `"`, `\"`, "$", `\$`, "`", "\\`")

// filled is what is signed, with these in place of its parts; text writes what stands
// between them.
func (r Rule) filled(text func(string) string, at, id, body string) string {
	var out []string
	rest := or(r.Signed, "{body}")
	for rest != "" {
		first, part := len(rest), ""
		for _, p := range []string{"{time}", "{id}", "{body}"} {
			if i := strings.Index(rest, p); i >= 0 && i < first {
				first, part = i, p
			}
		}
		if first > 0 {
			out = append(out, text(rest[:first]))
		}
		if part != "" {
			out = append(out, map[string]string{"{time}": at, "{id}": id, "{body}": body}[part])
		}
		rest = rest[first+len(part):]
	}
	return strings.Join(out, "")
}

// quoted writes a text as JSON, Python and JavaScript all read it.
func quoted(s string) string {
	var b bytes.Buffer
	e := json.NewEncoder(&b)
	e.SetEscapeHTML(false)
	_ = e.Encode(s) // a text can be written
	return strings.TrimSpace(b.String())
}

// Python is the call as a program of Python 3, with nothing but its own library.
func (r Rule) Python(x Example) string {
	r = r.whole()
	imports, prove := []string{"urllib.request"}, ""
	switch r.Way {
	case Open:
	case Bearer:
		prove = "headers[\"Authorization\"] = \"Bearer \" + secret\n"
	case Basic:
		imports = append(imports, "base64")
		prove = "headers[\"Authorization\"] = \"Basic \" + base64.b64encode((" + quoted(or(r.User, "caller")+":") + " + secret).encode()).decode()\n"
	case InHeader:
		prove = "headers[" + quoted(r.Header) + "] = secret\n"
	default:
		imports = append(imports, "base64", "hashlib", "hmac", "time", "uuid")
		if r.TimeIn != "" {
			prove += "headers[" + quoted(r.TimeIn) + "] = at = str(int(time.time()))\n"
		}
		if r.IDIn != "" {
			prove += "headers[" + quoted(r.IDIn) + "] = id = str(uuid.uuid4())\n"
		}
		key := "secret.encode()"
		if r.Way == Standard {
			key = fmt.Sprintf("base64.b64decode(secret.removeprefix(%q))", StandardPrefix)
		}
		signed := strings.TrimSuffix(r.filled(func(t string) string { return quoted(t) + ".encode() + " }, "at.encode() + ", "id.encode() + ", "body + "), " + ")
		prove += "signature = hmac.new(" + key + ", " + signed + ", hashlib." + or(r.Hash, "sha256") + ")\n"
		write := "signature.hexdigest()"
		if r.Base64 {
			write = "base64.b64encode(signature.digest()).decode()"
		}
		prove += "headers[" + quoted(r.Header) + "] = " + quoted(r.Prefix) + " + " + write + "\n"
	}
	out := "import " + strings.Join(imports, ", ") + "\n\nbody = " + quoted(x.Body) + ".encode()\nheaders = {\"Content-Type\": \"application/json\"}\n"
	if r.Way != Open {
		out += "secret = \"" + secretHere + "\"\n"
	}
	return out + prove + "call = urllib.request.Request(" + quoted(x.Address) + ", data=body, headers=headers, method=" + quoted(x.Method) + ")\nprint(urllib.request.urlopen(call).read().decode())"
}

// JavaScript is the call as a module of JavaScript that Node carries out.
func (r Rule) JavaScript(x Example) string {
	r = r.whole()
	imports, prove := "", ""
	switch r.Way {
	case Open:
	case Bearer:
		prove = "headers[\"Authorization\"] = \"Bearer \" + secret;\n"
	case Basic:
		prove = "headers[\"Authorization\"] = \"Basic \" + Buffer.from(" + quoted(or(r.User, "caller")+":") + " + secret).toString(\"base64\");\n"
	case InHeader:
		prove = "headers[" + quoted(r.Header) + "] = secret;\n"
	default:
		imports = "import { createHmac, randomUUID } from \"node:crypto\";\n\n"
		if r.TimeIn != "" {
			prove += "const at = (headers[" + quoted(r.TimeIn) + "] = String(Math.floor(Date.now() / 1000)));\n"
		}
		if r.IDIn != "" {
			prove += "const id = (headers[" + quoted(r.IDIn) + "] = randomUUID());\n"
		}
		key := "secret"
		if r.Way == Standard {
			key = fmt.Sprintf("Buffer.from(secret.replace(/^%s/, \"\"), \"base64\")", StandardPrefix)
		}
		signed := strings.TrimSuffix(r.filled(func(t string) string { return quoted(t) + " + " }, "at + ", "id + ", "body + "), " + ")
		write := "hex"
		if r.Base64 {
			write = "base64"
		}
		prove += "const signature = createHmac(" + quoted(or(r.Hash, "sha256")) + ", " + key + ").update(" + signed + ").digest(" + quoted(write) + ");\nheaders[" + quoted(r.Header) + "] = " + quoted(r.Prefix) + " + signature;\n"
	}
	out := imports + "const body = " + quoted(x.Body) + ";\nconst headers = { \"Content-Type\": \"application/json\" };\n"
	if r.Way != Open {
		out += "const secret = \"" + secretHere + "\";\n"
	}
	return out + prove + "const answer = await fetch(" + quoted(x.Address) + ", { method: " + quoted(x.Method) + ", headers, body });\nconsole.log(await answer.text());"
}
