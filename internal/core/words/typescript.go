package words

import (
	"fmt"
	"strings"
)

// TypeScript is the table as the console has it.
func TypeScript() string {
	var b strings.Builder
	b.WriteString("// Generated from internal/core/words by make generate. Do not edit.\n")
	b.WriteString("export type Tone = \"plain\" | \"leaf\" | \"amber\" | \"rust\";\n\nexport const fates = {\n")
	for _, f := range Fates {
		fmt.Fprintf(&b, "  %s: { words: %q, tone: %q },\n", f.Name, f.Words, f.Tone)
	}
	b.WriteString("} as const;\n\nexport const states = {\n")
	for _, s := range States {
		fmt.Fprintf(&b, "  %s: { words: %q, tone: %q },\n", s.Name, s.Words, s.Tone)
	}
	b.WriteString("} as const;\n\nexport const reasons: Record<string, string> = {\n")
	for _, r := range Reasons {
		fmt.Fprintf(&b, "  %s: %q,\n", r.Name, r.Words)
	}
	b.WriteString("};\n\nexport const consents: Record<string, string> = {\n")
	for _, c := range Consents {
		fmt.Fprintf(&b, "  %s: %q,\n", c.Name, c.Words)
	}
	b.WriteString("};\n")
	return b.String()
}
