"""Lineup: across this basket, whose volatility is out of line with the others and with its own past?"""
