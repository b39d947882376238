"""The Larkmere ringing scheme: made-up sample data, the same for a seed on every machine."""
