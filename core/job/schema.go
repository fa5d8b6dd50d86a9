package job

import (
	"encoding/json"
	"reflect"
	"strings"
)

// described are what the keys of a job file mean, and what they may hold.
var described = map[string]string{
	"job":          "The job's name: up to 40 lower-case letters, digits and hyphens.",
	"type":         "What it makes true.",
	"routes":       "What is at from appears as to.",
	"from":         "The address of a source, such as /field-drive/Surveys.",
	"to":           "The address of a target.",
	"when":         "When it runs by itself; nothing: when a person starts it.",
	"continuous":   "As soon as something changes.",
	"now":          "Once, as soon as it is made.",
	"at":           "Once, at 2026-12-01T22:00.",
	"every":        "So often: 15m, 6h, 2d.",
	"weekly":       "At hours of the week, and until others: mon-fri 22:00-06:00.",
	"cron":         "Five fields, as in a crontab.",
	"arrival":      "Each file or folder that arrives at the source or changes, once it is complete, by a run of its own.",
	"arrivals":     "How what arrives is taken.",
	"rest":         "How long nothing of it may have changed for it to be complete, such as 30s.",
	"at-once":      "How many are transferred at a time.",
	"zone":         "The time zone of the times, such as Europe/Lisbon.",
	"hours":        "Hours of the week.",
	"rules":        "What decides.",
	"clash":        "Where both sides hold different contents.",
	"deletions":    "What a removal means for the other side; of a brake, the share of the files.",
	"leave-out":    "Patterns of what is left out, in the gitignore syntax.",
	"only":         "What alone is taken.",
	"patterns":     "Patterns of what alone is taken, in the gitignore syntax.",
	"types":        "Types of files.",
	"smaller-than": "Only files below a size, such as 2GiB.",
	"larger-than":  "Only files above a size.",
	"newer-than":   "Only files changed after a date, or within an age.",
	"older-than":   "Only files changed before a date, or an age.",
	"changed":      "Only what has changed since an earlier run brought it; with a template that names the run.",
	"documents":    "What documents that exist only inside a service are exported as, by class.",
	"names":        "What is done about names that the target cannot hold.",
	"as":           "A template of the names below the target.",
	"identical":    "Of several sources that are consolidated: identical files once (where they are merged, unless given), or each.",
	"proof":        "How what arrived is proven.",
	"brake":        "How much a run may lose without a person's word.",
	"overwrites":   "The share of the files that may be written over.",
	"older":        "How many files may be replaced by older versions.",
	"priority":     "How its runs stand to others.",
	"retry":        "How often, and how long, an item is tried.",
	"tries":        "How often an item is tried before it fails.",
	"within":       "How long an item is tried, such as 2h.",
	"migrate":      "How a migration goes.",
	"go-on":        "The last step that begins by itself.",
	"little":       "How few files a pass may still have had for catching up to be at its end.",
	"clear":        "Whether the source is cleared of what is proven, in the end.",
	"pace":         "Limits on rates, such as 20MB/s.",
	"up":           "To providers.",
	"down":         "From providers.",
}

// choices are the values of the keys that have a few.
var choices = map[string][]string{
	"type": Types, "clash": {"keep-both", "newer", "source", "leave", "ask"}, "names": {"translate", "refuse"}, "proof": {"hash", "size", "readback"},
	"priority": {"low", "normal", "high"}, "identical": {IdenticalOnce, IdenticalEach}, "go-on": Steps, "arrival": {ArrivingFile, ArrivingFolder}, "rules.deletions": {"ignore", "follow", "retire"}, "types": {"documents", "pictures", "sound", "film"},
}

// Schema is the JSON Schema (draft 2020-12) of a job file.
func Schema() []byte {
	schema := schemaOf(reflect.TypeFor[Spec](), "", "")
	schema["$schema"] = "https://json-schema.org/draft/2020-12/schema"
	schema["title"] = "A job of Deft Heron"
	schema["required"] = []string{"job", "type", "routes"}
	text, _ := json.MarshalIndent(schema, "", "  ") // of maps and texts alone
	return append(text, '\n')
}

func schemaOf(shape reflect.Type, in, key string) map[string]any {
	schema := map[string]any{}
	if text := described[key]; text != "" {
		schema["description"] = text
	}
	values := choices[in+"."+key]
	if values == nil {
		values = choices[key]
	}
	switch shape.Kind() {
	case reflect.Struct:
		properties := map[string]any{}
		for i := range shape.NumField() {
			name, _, _ := strings.Cut(shape.Field(i).Tag.Get("yaml"), ",")
			properties[name] = schemaOf(shape.Field(i).Type, key, name)
		}
		schema["type"], schema["properties"], schema["additionalProperties"] = "object", properties, false
	case reflect.Slice:
		schema["type"], schema["items"] = "array", schemaOf(shape.Elem(), in, "")
		if values != nil {
			schema["items"] = map[string]any{"enum": values}
		}
		if shape.Elem().Kind() == reflect.Struct {
			schema["minItems"] = 1
		}
	case reflect.Map:
		schema["type"], schema["additionalProperties"] = "object", map[string]any{"type": "string"}
	case reflect.Bool:
		schema["type"] = "boolean"
	case reflect.Int:
		schema["type"], schema["minimum"] = "integer", 1
	default:
		schema["type"] = []string{"string", "number"} // YAML reads 200 as a number
		if values != nil {
			delete(schema, "type")
			schema["enum"] = values
		}
	}
	return schema
}
