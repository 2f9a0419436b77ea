"""Screen: which names meet my rules, and which rule did the cutting?"""
