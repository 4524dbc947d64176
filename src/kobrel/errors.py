"""The one family of errors whose messages are meant for a person."""


class KobrelError(Exception):
    """Something a person can put right; the message says what, where and how."""


class OpticsError(KobrelError):
    """A lens, sensor or distance that cannot exist."""


class SceneError(KobrelError):
    """A scene file that cannot be used."""


class PlanError(KobrelError):
    """A plan that cannot be read, written or obeyed."""


class ExchangeError(KobrelError):
    """A file in another format that cannot be written or read back."""
