"""A Listing whose cursors may show keys that its select does not, for tests of other things."""

from functools import partial

import vrelko

Listing = partial(vrelko.Listing, expose=True)
