"""Tripwires: tell me when a name that I parked does the thing that I am waiting for."""
