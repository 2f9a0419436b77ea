"""Files in open formats as a source of a market: what kinds there are, how a file is read, matched, checked and loaded."""
