"""Tray: the working list, docked on every page."""
