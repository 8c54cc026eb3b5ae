"""Bramblemoor: whole picture collections out of cloud services, into archives that can be proven sound."""

__version__ = "0.1.0"
