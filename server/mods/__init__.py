"""Swaps, rebuilds, trial runs."""
