"""From bytes to cells: encoding, separators, decimals, headers and rows of foreign logs."""
