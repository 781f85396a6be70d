package wssecurity

import (
	"fmt"
	"strings"
	"time"
)

// tolerance is how far clocks may differ before a time stamp counts as wrong.
const tolerance = 5 * time.Minute

// CheckTimestamp judges the time stamp of a message at a moment: nil where it
// holds or there is none. there says whether there is one.
func (m *Message) CheckTimestamp(now time.Time) (there bool, err error) {
	stamp := find(m.security, wsu, "Timestamp")
	if stamp == nil {
		return false, nil
	}
	created, err := moment(ownText(find(stamp, wsu, "Created")))
	if err != nil {
		return true, fmt.Errorf("its beginning: %w", err)
	}
	if created.After(now.Add(tolerance)) {
		return true, fmt.Errorf("it was made %v from now: the clocks differ", created.Sub(now).Round(time.Second))
	}
	if end := find(stamp, wsu, "Expires"); end != nil {
		expires, err := moment(end.OwnText())
		if err != nil {
			return true, fmt.Errorf("its end: %w", err)
		}
		if now.After(expires.Add(tolerance)) {
			return true, fmt.Errorf("it expired %v ago", now.Sub(expires).Round(time.Second))
		}
	} else if now.Sub(created) > time.Hour {
		return true, fmt.Errorf("it was made %v ago", now.Sub(created).Round(time.Second))
	}
	return true, nil
}

func moment(text string) (time.Time, error) {
	at, err := time.Parse(time.RFC3339, strings.TrimSpace(text))
	if err != nil {
		return at, fmt.Errorf("%q is not a moment", text)
	}
	return at, nil
}

// Confirmations lists the signature values that an answer confirms (WS-Security
// 1.1, section 8.5).
func (m *Message) Confirmations() []string {
	var values []string
	if m.security == nil {
		return nil
	}
	for _, item := range m.security.Children() {
		if item.Name().Space == wsse11 && item.Name().Local == "SignatureConfirmation" {
			value, _ := item.Attribute("Value")
			values = append(values, strings.Join(strings.Fields(value), ""))
		}
	}
	return values
}
