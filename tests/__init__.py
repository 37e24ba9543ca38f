"""All tests.  How long an example of a property takes says nothing of whether it holds.

The examples of properties are the same in every run, so that what fails fails for everybody; with APTWIRE_EXAMPLES=anew they are drawn
anew each time.
"""

import os

from hypothesis import settings

settings.register_profile("patient", deadline=None, derandomize=True)
settings.register_profile("wandering", deadline=None)
settings.load_profile("wandering" if os.environ.get("APTWIRE_EXAMPLES") else "patient")
