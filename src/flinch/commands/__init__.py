"""The commands of the command line, a module a group."""
