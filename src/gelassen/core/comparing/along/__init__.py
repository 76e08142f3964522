"""Values along a scale: how they change, where they are best, and what they are at one place."""
