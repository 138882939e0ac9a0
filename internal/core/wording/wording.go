// Package wording says things: it is the only room that turns codes and values into sentences, and numbers into text. What is stored and
// sent is a Phrase; its words are made when somebody reads it, in their language. The words stand in one catalogue a language, en.yaml to
// es.yaml: English has all of them, the others what an owner gets on paper. Start with Say and Phrase.In.
package wording

import (
	"bytes"
	"encoding/json"
	"strings"
)

// Code names one thing to say. Codes are stored and sent, so one that has left the house keeps its name; the constants are in codes.go.
type Code string

// Values are what a phrase is said with, by the name of their hole in the catalogue's text: texts, numbers, Phrases and lists of Phrases.
type Values map[string]any

// Phrase is one thing to say. The zero Phrase says nothing.
type Phrase struct {
	Code   Code
	Values Values
	// Text is said as it stands, where there is no code: what a person or a drive said, or what an earlier version stored.
	Text string
}

// Say makes a phrase of a code and its values.
func Say(c Code, v ...Values) Phrase {
	p := Phrase{Code: c}
	if len(v) > 0 {
		p.Values = v[0]
	}
	return p
}

// Literal is a phrase that says a text as it stands.
func Literal(text string) Phrase { return Phrase{Text: text} }

// IsZero reports whether it says nothing.
func (p Phrase) IsZero() bool { return p.Code == "" && p.Text == "" }

// String is the phrase in English.
func (p Phrase) String() string { return p.In(English) }

// phraseJSON is a phrase as it is stored and sent. One without a code is its text alone, as all were in earlier versions.
type phraseJSON struct {
	Code   Code   `json:"code"`
	Values Values `json:"values,omitempty"`
}

// MarshalJSON writes code and values, or a text.
func (p Phrase) MarshalJSON() ([]byte, error) {
	if p.Code == "" {
		return json.Marshal(p.Text)
	}
	return json.Marshal(phraseJSON{p.Code, p.Values})
}

// UnmarshalJSON reads what MarshalJSON wrote, and the sentences of earlier versions. Numbers keep all their digits.
func (p *Phrase) UnmarshalJSON(b []byte) error {
	*p = Phrase{}
	if b = bytes.TrimSpace(b); len(b) > 0 && b[0] == '"' {
		return json.Unmarshal(b, &p.Text)
	}
	var j phraseJSON
	d := json.NewDecoder(bytes.NewReader(b))
	d.UseNumber()
	if err := d.Decode(&j); err != nil {
		return err
	}
	p.Code, p.Values = j.Code, revived(j.Values)
	return nil
}

// revived makes phrases again of values that were some.
func revived(v Values) Values {
	for name, x := range v {
		v[name] = revive(x)
	}
	return v
}

func revive(x any) any {
	switch x := x.(type) {
	case map[string]any:
		code, _ := x["code"].(string)
		values, _ := x["values"].(map[string]any)
		return Phrase{Code: Code(code), Values: revived(values)}
	case []any:
		all := make([]Phrase, len(x))
		for i, one := range x {
			switch one := revive(one).(type) {
			case Phrase:
				all[i] = one
			case string:
				all[i] = Literal(one)
			}
		}
		return all
	}
	return x
}

// Column is a phrase as a column of text holds it: a text without a code as it stands, so that earlier rows read as what they are.
func (p Phrase) Column() string {
	if p.Code == "" {
		return p.Text
	}
	b, err := p.MarshalJSON()
	if err != nil { // values are texts, numbers and phrases
		return p.String()
	}
	return string(b)
}

// FromColumn reads what Column wrote.
func FromColumn(s string) Phrase {
	if strings.HasPrefix(s, `{"code":`) {
		var p Phrase
		if p.UnmarshalJSON([]byte(s)) == nil {
			return p
		}
	}
	return Literal(s)
}

// All are phrases in English.
func All(p []Phrase) []string {
	all := make([]string, len(p))
	for i := range p {
		all[i] = p[i].String()
	}
	return all
}
