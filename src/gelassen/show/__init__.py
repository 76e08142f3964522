"""Tables, texts and figures made from results."""
