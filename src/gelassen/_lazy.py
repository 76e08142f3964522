"""Names of a package that are loaded when first asked for.

A short command or a worker process needs few modules; it must not wait for SciPy and pandas.
"""

from collections.abc import Callable, Mapping
from importlib import import_module
from typing import Any


def loader(package: str, homes: Mapping[str, tuple[str, ...]]) -> Callable[[str], Any]:
    """Return a module-level `__getattr__`; `homes` maps each module to the names it offers."""

    def __getattr__(name: str) -> Any:  # noqa: N807  what Python calls it
        for module, names in homes.items():
            if name in names:
                return getattr(import_module(f"{package}.{module}"), name)
        raise AttributeError(f"module '{package}' has no attribute '{name}'")

    return __getattr__


def shown(own: Mapping[str, Any]) -> Callable[[], list[str]]:
    """Return a module-level `__dir__` that shows the public names, loaded or not."""

    def __dir__() -> list[str]:  # noqa: N807  what Python calls it
        return sorted(own["__all__"])

    return __dir__
