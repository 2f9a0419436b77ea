"""Structures: which option structures pay best for the risk, under more than one opinion of fair value?"""
