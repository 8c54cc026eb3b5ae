"""Layouts chosen by hand: each a combination that is hard in a way of its own."""

from corpus.layout import Layout

LAYOUTS: list[Layout] = []
