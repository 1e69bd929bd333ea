"""The user's own layouts: drafts, versions, and what they are tried on."""
