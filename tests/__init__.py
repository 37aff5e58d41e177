"""Everything that must hold: the core on its own, and the installed program, real servers and a real browser.

What is logged on purpose stays out of the output; tests that look at it catch it themselves.
"""

import logging

logging.getLogger("bloodroot").addHandler(logging.NullHandler())
