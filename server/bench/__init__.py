"""The layout bench and unknown audio."""
