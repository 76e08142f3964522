"""JSON Schemas of study and run files, for editors."""
