package api

import (
	"hylostat.example/internal/contract"
	"hylostat.example/internal/core/wording"
	"hylostat.example/internal/shop"
)

// said gives a phrase as what it is and how it reads.
func said(p wording.Phrase) contract.Said {
	out := contract.Said{Code: text(string(p.Code)), Words: p.String()}
	if len(p.Values) > 0 {
		values := map[string]any(p.Values)
		out.Values = &values
	}
	return out
}

// saying is said for what may say nothing.
func saying(p wording.Phrase) *contract.Said {
	if p.IsZero() {
		return nil
	}
	out := said(p)
	return &out
}

// sayings is said for several; nil for none.
func sayings(all []wording.Phrase) *[]contract.Said {
	if len(all) == 0 {
		return nil
	}
	out := each(all, said)
	return &out
}

func eventOf(e shop.Event) contract.Event {
	out := contract.Event{
		Seq:     e.Seq,
		At:      e.At,
		Kind:    contract.EventKind(e.Kind),
		Serial:  text(e.Serial),
		Run:     optional(e.Run),
		Reading: optional(e.Reading),
		Percent: optional(e.Percent),
		Alert:   optional(e.Alert),
		By:      text(e.By),
		Text:    saying(e.Said),
	}
	if !e.Bay.IsZero() {
		out.Bay = &e.Bay
	}
	if e.Severity != "" {
		out.Severity = new(contract.Severity(e.Severity))
	}
	if len(e.People) > 0 {
		out.People = &e.People
	}
	if e.Repeat {
		out.Repeat = &e.Repeat
	}
	return out
}

// languageOf reads a language; the contract lets no other in.
func languageOf(l *contract.Language) wording.Language {
	out, err := wording.ParseLanguage(string(value(l)))
	if err != nil {
		return wording.Language{}
	}
	return out
}

func languageSaid(l wording.Language) *contract.Language {
	if l.IsZero() {
		return nil
	}
	out := contract.Language(l.String())
	return &out
}
