"""From a document to the next one: what changes, where everything goes, and the bytes of it."""
