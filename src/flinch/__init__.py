"""Flinch: how far a stock is priced to move, against how far it does move."""

__version__ = "0.1.0"
