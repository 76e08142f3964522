"""Where runs are analysed side by side: processes here, or the workers of a cluster."""
