"""A load that the tester starts and ends: Gelassen only watches."""


class LoadByHand:
    """Stands for a program that somebody else runs. Implements `gelassen.bench.Load`."""

    workers = 1

    def start(self) -> None:
        """Do nothing: it runs already."""

    def use(self, workers: int) -> None:
        """Do nothing: nobody can pause it from here."""

    def stop(self) -> None:
        """Do nothing: the tester ends it."""

    def problem(self) -> str:
        """Return nothing: what it does is not seen."""
        return ""
