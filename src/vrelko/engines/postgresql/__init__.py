"""PostgreSQL: what it can do, its catalog, its plans."""
