"""What changed between two surveys."""
