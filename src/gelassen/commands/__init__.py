"""The commands, one a file: each parses, calls and prints."""
