"""Handbook: what every number means."""
