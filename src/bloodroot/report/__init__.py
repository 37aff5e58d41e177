"""Results as people and programs read them.

A result gives a sheet (`sheets`), and one module a format writes any sheet (`terminal`, `csv`, `markdown`, `html`).
JSON is made by hand (`json`), and so are pages of results that are worth one, pictures, and formats of one kind of
result. Which result has which formats is said in `registry`, and nowhere else.
"""
