"""Running screens on the market: what several pages share, between them and the market itself."""
