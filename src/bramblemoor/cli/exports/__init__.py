"""Commands that bring pictures home from services."""
