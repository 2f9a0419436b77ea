"""Own lines: which prices did I mark on this name, and how likely are they to be touched?"""
