"""The computation. Arrays in, arrays out: no web, no database, no clock, no files, no global state."""
