package service

// close ends what runs, in the order in which the parts depend on each other, and closes the records.
func (s *Service) close() {
	s.interrupt()
	if s.runner != nil {
		s.runner.Wait()
	}
	if s.recent != nil {
		s.recent.Wait()
	}
	if s.gateway != nil {
		s.gateway.Recent.Wait()
	}
	if s.linked != nil {
		s.linked.Wait()
		s.linked.CloseSealed()
	}
	if s.workers != nil {
		s.workers.Close()
	}
	if s.listener != nil {
		s.listener.Close()
	}
	if s.measuring != nil {
		s.measuring.Close()
	}
	if s.index != nil {
		s.index.Close()
	}
	if s.db != nil {
		if err := s.db.Close(); err != nil {
			s.options.Log.Error("could not close the records", "error", err)
		}
	}
	if s.lock != nil {
		s.lock.Close()
	}
}
