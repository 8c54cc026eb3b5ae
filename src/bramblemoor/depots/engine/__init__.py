"""The copy engine: each file is read once and written to all depots that need it."""
