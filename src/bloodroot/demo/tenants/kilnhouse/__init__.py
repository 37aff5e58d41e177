"""The application of the pottery cooperative: studios, their kilns, and what is fired in them."""
