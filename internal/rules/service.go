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
	own      ownBytes
	owedFar  OwedFunc
	users    []func(lineage string) (map[string][]string, error) // of snapshots, by id

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

// Uses has a function called that names, by snapshot of one history at least, what stands on it: clones by their names,
// drills by DrillUse, outlets by OutletUse.
func (s *Service) Uses(f func(lineage string) (map[string][]string, error)) {
	s.users = append(s.users, f)
}

// DrillUse is before the identity of a drill that uses a snapshot. No clone has a name with a space.
const DrillUse = "drill "

// OutletUse is before the name of an outlet where a snapshot lies. It does not keep a person from removing it.
const OutletUse = "outlet "

// used names, by snapshot of a history, what stands on it.
func (s *Service) used(lineage string) (map[string][]string, error) {
	out := map[string][]string{}
	for _, f := range s.users {
		some, err := f(lineage)
		if err != nil {
			return nil, err
		}
		for id, names := range some {
			out[id] = append(out[id], names...)
		}
	}
	return out, nil
}

// ForgetVerdicts has volumes decided anew; none: all of them.
func (s *Service) ForgetVerdicts(volumes []string) { s.run.Forget(volumes) }
