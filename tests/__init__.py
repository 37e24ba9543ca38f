"""All tests.  How long an example of a property takes says nothing of whether it holds."""

from hypothesis import settings

settings.register_profile("patient", deadline=None)
settings.load_profile("patient")
