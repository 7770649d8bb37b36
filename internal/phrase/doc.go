// Package phrase has the small parts of sentences: sizes, spans of time, moments, counts, and
// names in a form that shows all of their bytes.
package phrase
