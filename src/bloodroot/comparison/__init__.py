"""Two policies side by side: whose access changes where, and a request that shows it."""
