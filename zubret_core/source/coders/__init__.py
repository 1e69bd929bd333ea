"""Ways of packing that are our own."""
