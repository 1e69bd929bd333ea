"""What a document must fulfil, as functions of it: what stands where, and its checksums."""
