"""The workers of a Dask cluster, checked before any run is sent to them."""

from collections.abc import Iterator
from concurrent.futures import Executor
from contextlib import contextmanager
from pathlib import Path
from typing import Any

from gelassen._version import __version__
from gelassen.core.foundation.errors import InputError
from gelassen.study.disk.cache import code_fingerprint

_ANSWERS_WITHIN_S = 4.0
# A run is sent to another worker if its own is lost, so often before it counts as the run's fault.
_TRIES = 3


@contextmanager
def cluster(address: str, folder: Path | None = None) -> Iterator[Executor]:
    """Give the workers of a scheduler as an executor.

    Workers read the runs themselves: only the paths of run folders are sent. A run whose worker is lost is
    sent to another one.

    Parameters
    ----------
    address : str
        Of the scheduler, such as "tcp://10.0.0.5:8786".
    folder : Path, optional
        The study, which all workers must see under the same path.

    Raises
    ------
    InputError
        Dask is not installed, no scheduler answers, it has no worker, or a worker has other code or does
        not see the study.
    """
    try:
        from distributed import Client
    except ImportError:
        raise InputError(
            'a cluster needs Dask: pip install "gelassen[cluster]", here and where the workers are'
        ) from None
    try:
        client: Any = Client(  # type: ignore[no-untyped-call]
            address, timeout=_ANSWERS_WITHIN_S, set_as_default=False
        )
    except (OSError, ValueError, TypeError) as error:
        raise InputError(
            f"no scheduler answers at {address} ({type(error).__name__}). Write its address as it "
            "prints it when it starts, such as tcp://10.0.0.5:8786"
        ) from None
    with client:
        _check(client.run(_told, str(folder) if folder is not None else None), address)
        yield client.get_executor(retries=_TRIES, pure=False)


def _told(folder: str | None) -> tuple[str, str, bool]:
    """Return what a worker has: its version, a mark of its code, and whether it sees the study."""
    return __version__, code_fingerprint(), folder is None or Path(folder).is_dir()


def _check(workers: dict[str, Any], address: str) -> None:
    if not workers:
        raise InputError(f"{address} has no worker: start some with: dask worker {address}")
    mine = code_fingerprint()
    for name, (version, code, sees) in workers.items():
        if version != __version__:
            raise InputError(
                f"worker {name} has Gelassen {version}, and this is {__version__}: install the same there"
            )
        if code != mine:
            raise InputError(
                f"worker {name} has other code of Gelassen {version} than this machine: install it anew"
            )
        if not sees:
            raise InputError(
                f"worker {name} does not see the study under its path: share the folder with it, or run "
                "there"
            )
