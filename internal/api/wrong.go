package api

import (
	"errors"
	"fmt"
	"slices"
	"strings"

	"github.com/getkin/kin-openapi/openapi3"
	"github.com/getkin/kin-openapi/openapi3filter"
)

// wrongField puts the validator's finding into one sentence about one field: that of a body, or a parameter. field is empty when there is
// none to name.
func wrongField(err error) (field, detail string) {
	re, ok := errors.AsType[*openapi3filter.RequestError](err)
	if !ok {
		return "", err.Error()
	}
	if re.Parameter != nil {
		field = re.Parameter.Name
	}
	if schema, ok := errors.AsType[*openapi3.SchemaError](err); ok {
		if unknown := strings.Split(schema.Reason, `"`); schema.SchemaField == "properties" && len(unknown) == 3 {
			return unknown[1], unknown[1] + " is not known here"
		}
		if at := schema.JSONPointer(); len(at) > 0 {
			field = at[len(at)-1]
		}
		return field, schemaWords(field, schema)
	}
	if parse, ok := errors.AsType[*openapi3filter.ParseError](err); ok && re.Parameter != nil {
		return field, fmt.Sprintf("%s is %s, not %s", field, typeWords(re.Parameter.Schema.Value), shown(field, parse.Value))
	}
	if errors.Is(err, openapi3filter.ErrInvalidRequired) {
		return field, fmt.Sprintf("%s is missing", orBody(field))
	}
	what := re.Reason
	if re.Err != nil {
		if what = re.Err.Error(); !strings.HasPrefix(what, re.Reason) {
			what = re.Reason + ": " + what
		}
	}
	return field, orBody(field) + ": " + strings.TrimPrefix(what, ": ")
}

func orBody(field string) string {
	if field == "" {
		return "the body"
	}
	return field
}

// schemaWords says what a value would have to be.
func schemaWords(field string, e *openapi3.SchemaError) string {
	name, s := orBody(field), e.Schema
	switch e.SchemaField {
	case "enum":
		return fmt.Sprintf("%s is %s, not %s", name, either(s.Enum), shown(field, e.Value))
	case "minimum":
		return fmt.Sprintf("%s is at least %v, not %s", name, *s.Min, shown(field, e.Value))
	case "maximum":
		return fmt.Sprintf("%s is at most %v, not %s", name, *s.Max, shown(field, e.Value))
	case "minLength":
		if s.MinLength == 1 {
			return name + " is empty"
		}
		return fmt.Sprintf("%s has %d characters at least", name, s.MinLength)
	case "maxLength":
		return fmt.Sprintf("%s has %d characters at most", name, *s.MaxLength)
	case "minItems":
		return fmt.Sprintf("%s has %d entries at least", name, s.MinItems)
	case "maxItems":
		return fmt.Sprintf("%s has %d entries at most", name, *s.MaxItems)
	case "type":
		return fmt.Sprintf("%s is %s, not %s", name, typeWords(s), shown(field, e.Value))
	case "pattern", "format":
		if s.Description != "" {
			return fmt.Sprintf("%s is %s, not %s", name, s.Description, shown(field, e.Value))
		}
		return fmt.Sprintf("%s is not written so: %s", name, shown(field, e.Value))
	case "required":
		return name + " is missing"
	case "properties":
		return name + " is not known here"
	}
	return name + ": " + e.Reason
}

// either lists what may be chosen.
func either(all []any) string {
	words := each(all, func(a any) string { return fmt.Sprint(a) })
	if len(words) == 1 {
		return words[0]
	}
	return strings.Join(words[:len(words)-1], ", ") + " or " + words[len(words)-1]
}

func typeWords(s *openapi3.Schema) string {
	switch {
	case s.Type.Is("integer"):
		return "a whole number"
	case s.Type.Is("number"):
		return "a number"
	case s.Type.Is("boolean"):
		return "true or false"
	case s.Type.Is("array"):
		return "a list"
	case s.Type.Is("object"):
		return "an object"
	}
	return "a text"
}

// secrets are fields whose values are not said back.
var secrets = []string{"password", "now", "to", "code", "secret", "proof"}

// shown is a value as it was given, or what kind it is.
func shown(field string, value any) string {
	switch v := value.(type) {
	case string:
		if slices.Contains(secrets, field) {
			return "that"
		}
		return fmt.Sprintf("%.60q", v)
	case []any:
		return "a list"
	case map[string]any:
		return "an object"
	case nil:
		return "nothing"
	default:
		return fmt.Sprint(v)
	}
}
