"""Dossier: everything about one name."""
