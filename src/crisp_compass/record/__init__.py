"""What leaves the bench: settings for firmware and the record for people."""
