"""Surveys of games: what their files are, what is in them, and names for what has none."""
