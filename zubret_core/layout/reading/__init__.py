"""From bytes to a document: where the regions stand, and where the fields of each record begin."""
