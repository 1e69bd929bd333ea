"""Game folders and their surveys."""
