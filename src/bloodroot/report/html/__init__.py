"""Pages, each whole in itself: nothing is loaded from elsewhere."""
