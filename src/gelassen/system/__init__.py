"""Files, locks and processes, used so that nothing is lost and nothing from outside is let in."""
