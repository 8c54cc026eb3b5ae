"""Commands of the library itself."""
