"""What several commands share: options, output, a study opened, the live view of a run."""
