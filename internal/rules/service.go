package rules

import (
	"candidharbor/internal/datadir"
	"candidharbor/internal/pairing"
	"candidharbor/internal/records"
	"candidharbor/internal/run"
)

// Service decides by policies.
type Service struct {
	*datadir.Dir
	run     *run.Engine
	records *records.Service
	pairing *pairing.Service

	policies policyCache
	verdicts verdictCache
	owedFar  OwedFunc
	clonesOf func() (map[string][]string, error) // by snapshot that they stand on

	marksCompared chan struct{} // closed when the catalogue was compared with the marks
	marksError    error         // why it could not be; set before
}

// New works in a data directory.
func New(dir *datadir.Dir, run *run.Engine, records *records.Service, pairing *pairing.Service) *Service {
	s := &Service{Dir: dir, run: run, records: records, pairing: pairing, marksCompared: make(chan struct{})}
	run.OnChanged(s.verdicts.drop)
	pairing.SetsQuota(s.quotaOf)
	return s
}

// Owes has a function called that says what other places would keep and do not have yet.
func (s *Service) Owes(f OwedFunc) { s.owedFar = f }

// Uses has a function called that names, by snapshot, the clones that stand on it.
func (s *Service) Uses(f func() (map[string][]string, error)) { s.clonesOf = f }

// ForgetVerdicts has volumes decided anew; none: all of them.
func (s *Service) ForgetVerdicts(volumes []string) { s.verdicts.drop(volumes) }
