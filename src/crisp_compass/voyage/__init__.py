"""The voyage: how the legs hang together. Joins the bench with estimation, design and plant, without any interface."""
