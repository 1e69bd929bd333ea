"""The server: rows, jobs, the API. It computes nothing itself: a service reads rows, calls zubret_core, writes rows."""
