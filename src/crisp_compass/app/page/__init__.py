"""What pages share."""
