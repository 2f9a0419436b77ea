"""What the frame around every page needs: the market's state, all names for search, the Peek."""
