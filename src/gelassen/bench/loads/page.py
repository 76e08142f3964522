"""The page of memory a worker shares with its parent."""

import struct

PAGE = struct.Struct("<qqq")  # ready (0 or 1), rounds done, wrong results
