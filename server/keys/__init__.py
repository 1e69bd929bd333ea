"""The key ring of a game, and trying keys."""
