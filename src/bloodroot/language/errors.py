"""What every error of ours derives from. Nothing is imported here, so that help stays fast."""


class BloodrootError(Exception):
    """What Bloodroot raises for a user or an application to meet: every error of ours derives from it."""


class UnknownNameError(BloodrootError, LookupError):
    """A name that the policy, or the directory, does not know."""
