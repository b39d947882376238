"""What each database engine can do, and how its catalog and counters are read."""
