"""Commands of depots and copies."""
