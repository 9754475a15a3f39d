"""Parts that several pages share."""
