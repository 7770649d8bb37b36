package pairing

import (
	"filippo.io/age"
)

func recipientOf(h Hello) string {
	if _, err := age.ParseX25519Recipient(h.Recipient); err != nil {
		return ""
	}
	return h.Recipient
}
