// Package demo lives through the story of a made-up survey.
package demo

import (
	"context"
	"io"
)

// Options of Run.
type Options struct {
	Data   string
	Days   int
	Once   bool
	Listen string
	Out    io.Writer
}

// Run lives through the story.
func Run(ctx context.Context, opt Options) error { return nil }
