"""What people do by hand: changes, mountings, notes."""
