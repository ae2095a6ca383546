"""The review: a drive on the shelf as a page to publish."""
