"""Off-exchange: at which prices did the big prints land, and where is price against them?"""
