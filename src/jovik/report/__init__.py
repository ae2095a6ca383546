"""The review: a drive on the shelf turned into what a reviewer publishes."""
