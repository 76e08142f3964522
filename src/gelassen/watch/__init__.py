"""A run watched from another machine: a page with its readings as they come. It only reads what is on disk.

Nothing here runs in the process that records, so watching cannot delay a sample or the guard.
"""
