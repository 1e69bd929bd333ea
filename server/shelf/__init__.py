"""What a survey found: archives, entries, banks, streams; and the sound of it."""
