"""Tape: which option trades happened that are unusual for that name?"""
