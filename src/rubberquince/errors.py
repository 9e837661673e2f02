"""Every error an artist may meet. The message is one sentence: what happened, and what to do."""


class QuinceError(Exception):
    """Base of all errors that are shown as they are; anything else is a defect of ours."""


class SceneError(QuinceError):
    """A scene file cannot be read or written."""


class RangeError(SceneError):
    """A value is beyond a bound: ``relation`` says on which side of ``bound`` (SI) it should be."""

    def __init__(self, name: str, relation: str, bound: float) -> None:
        super().__init__(f"{name}: it should be {relation} {bound:g}.")
        self.relation, self.bound = relation, bound


class ShapeError(QuinceError):
    """A shape cannot be made, imported or divided into cells."""


class ValueTextError(QuinceError):
    """What was typed into a field is not a value of the wanted kind."""


class RunError(QuinceError):
    """A run or a bake cannot start or go on."""


class ExportError(QuinceError):
    """A file for another program cannot be written."""


class InstallError(QuinceError):
    """The program cannot be made known to the desktop."""


class Stopped(Exception):
    """Work that was asked to end early has ended; what was there before is as it was.  Never shown."""
