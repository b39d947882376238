"""Settings and stores that keep pages steady while rows change."""
