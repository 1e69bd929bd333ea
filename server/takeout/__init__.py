"""Taking entries and sounds out."""
