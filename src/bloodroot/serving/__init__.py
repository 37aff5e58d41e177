"""The decision service: access questions answered over HTTP, by an open protocol and for proxies."""
