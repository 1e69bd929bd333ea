"""Games, how far the work on them is, and what is forgotten."""
