package openapi

import (
	"fmt"
	"regexp"
	"slices"
	"strings"
)

// requestBody takes the first kind of body that can be written.
func (im *importer) requestBody(f *found, o *node) error {
	b, _, err := im.resolve(at(o, "requestBody"))
	if err != nil {
		return fmt.Errorf("its body cannot be read: %w", err)
	}
	content := at(b, "content")
	if content == nil {
		return nil
	}
	required := yes(b, "required")
	var kinds []string
	each(content, func(k string, _ *node) { kinds = append(kinds, k) })
	for _, want := range []struct{ pattern, key string }{{`^application/(.+\+)?json`, "json"}, {`^application/x-www-form-urlencoded`, "form"}, {`^multipart/form-data`, "multipart"}} {
		p := regexp.MustCompile(want.pattern)
		for _, k := range kinds {
			if p.MatchString(k) {
				im.body(f, want.key, toSend(im.schema(at(at(content, k), "schema"), 0, nil)), required)
				if media, _, _ := strings.Cut(k, ";"); want.key == "json" && media != "application/json" {
					set(f.header, "Content-Type", k)
				}
				return nil
			}
		}
	}
	for _, k := range kinds {
		if k == "application/octet-stream" || strings.HasPrefix(k, "image/") || strings.HasPrefix(k, "audio/") || strings.HasPrefix(k, "video/") || k == "application/pdf" || k == "*/*" {
			field := im.field(f, "file", map[string]any{"type": "object", "title": "File", "hint": "file"}, required)
			f.body = object()
			set(f.body, "file", "(= input."+field+" )")
			return nil
		}
		if strings.HasPrefix(k, "text/") {
			field := im.field(f, "text", map[string]any{"type": "string", "title": "Text"}, required)
			f.body = object()
			set(f.body, "raw", map[string]any{"type": k, "text": "(= input." + field + " )"})
			return nil
		}
	}
	if required {
		return fmt.Errorf("its body is %s, which cannot be written here", strings.Join(kinds, " or "))
	}
	im.leaveOut("the body of "+f.method+" "+f.path+placed(content), strings.Join(kinds, " or ")+" cannot be written here")
	return nil
}

// body makes a field of each property, or one of the whole body where it is no
// object.
func (im *importer) body(f *found, key string, schema map[string]any, required bool) {
	f.body = object()
	properties, _ := schema["properties"].(map[string]any)
	order, _ := schema["\x00order"].([]string)
	if len(properties) == 0 || schema["anyOf"] != nil || key == "json" && schema["type"] != "object" {
		if schema["title"] == nil {
			schema["title"] = "Body"
		}
		field := im.field(f, "body", schema, required)
		set(f.body, key, "(= input."+field+" )")
		return
	}
	needed, _ := schema["required"].([]any)
	values := object()
	for name := range properties {
		if !slices.Contains(order, name) {
			order = append(order, name)
		}
	}
	for _, name := range order {
		p, _ := properties[name].(map[string]any)
		if p == nil {
			continue
		}
		if key == "multipart" && p["\x00binary"] == true {
			p = map[string]any{"type": "object", "title": strings.ReplaceAll(name, "_", " "), "hint": "file"}
		}
		field := im.field(f, name, p, required && slices.Contains(needed, any(name)))
		set(values, name, "(= input."+field+" )")
	}
	set(f.body, key, values)
}
