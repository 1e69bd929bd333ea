"""Long work: rows that show it, the worker that does it."""
