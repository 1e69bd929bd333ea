"""What a layout may say: its words, its arithmetic, and its parts as pydantic models."""
