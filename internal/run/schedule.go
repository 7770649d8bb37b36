package run

func (s *Engine) IsHeld(key string) bool {
	s.mu.Lock()
	defer s.mu.Unlock()
	_, ok := s.held[key]
	return ok
}
