"""The kinds of service."""
