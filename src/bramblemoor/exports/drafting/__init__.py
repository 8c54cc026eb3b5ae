"""Drafting a dialect from an export that has none, and trying dialects."""
