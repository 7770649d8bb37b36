package httpapi

import (
	"bytes"
	"net/http"
	"strings"

	"candidharbor/internal/moment"
)

// timesHeader says in which zone and form whoever asks reads times in sentences: "Europe/Lisbon, day first". Without it
// they are in the zone of the site.
const timesHeader = "Candid-Times"

// times writes the moments in the sentences of an answer for who asks.
func times(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		ask := r.Header.Get(timesHeader)
		if ask == "" { // a stream of events in a browser cannot have headers
			ask = r.URL.Query().Get("times")
		}
		style, ok := moment.Read(ask)
		if !ok {
			style = moment.Here()
		}
		next.ServeHTTP(&timesWriter{ResponseWriter: w, style: style}, r)
	})
}

type timesWriter struct {
	http.ResponseWriter
	style moment.Style
	begun bool
}

// WriteHeader says a status once: huma says another when the caller has left, which net/http would log.
func (t *timesWriter) WriteHeader(status int) {
	if !t.begun {
		t.begun = status >= 200
		t.ResponseWriter.WriteHeader(status)
	}
}

// Unwrap is for http.ResponseController.
func (t *timesWriter) Unwrap() http.ResponseWriter { return t.ResponseWriter }

// Write writes a whole piece of JSON, an event or a part of a calendar; what else is sent may be of people's files and
// stays as it is.
func (t *timesWriter) Write(b []byte) (int, error) {
	if !bytes.Contains(b, []byte(moment.Mark)) {
		return t.ResponseWriter.Write(b)
	}
	kind, _, _ := strings.Cut(t.Header().Get("Content-Type"), ";")
	switch kind {
	case "application/json", "application/problem+json", "text/event-stream", "text/calendar":
		if _, err := t.ResponseWriter.Write([]byte(t.style.Text(string(b)))); err != nil {
			return 0, err
		}
		return len(b), nil
	}
	return t.ResponseWriter.Write(b)
}
