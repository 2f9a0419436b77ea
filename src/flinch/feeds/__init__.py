"""What stands in for the outside: the simulated market, and the publish step that follows every load."""
