"""The import rules, for import-linter, found from the folders: a new step, application or package falls under them by itself."""

from __future__ import annotations

from collections.abc import Iterable
from pathlib import Path

from .say import ROOT, Fail

# The core from above to below; those beside each other stand in one row. A package that is in no row is not let in.
CORE = (
    ("platesheet", "runsheet"),
    ("engine",),
    ("views",),
    ("anatomy", "parts"),
    ("receiving", "ops"),
    ("files",),
    ("mesh",),
    ("apart", "blobs", "progress"),
    ("errors", "forkserver", "limits", "text", "trouble", "words"),
)
# The server from above to below.
SERVER = ("config", "proofs", "bays", "plates", "cases", "runs", "house", "accounts", "ground")


def _packages(folder: Path) -> list[str]:
    """Names of the packages and modules in a folder."""
    inside = [p.name for p in folder.iterdir() if p.is_dir() and next(p.glob("*.py"), None)]
    return sorted([*inside, *(p.stem for p in folder.glob("*.py") if p.stem not in ("__init__", "manage", "describe"))])


def _same(given: Iterable[str], found: Iterable[str], where: str) -> None:
    new, gone = set(found) - set(given), set(given) - set(found)
    if new or gone:
        raise Fail(f"{where}: {', '.join(sorted(new | gone))} must be placed in (or taken out of) launch/contracts.py.")


def text() -> str:
    """The configuration, as TOML. Raises Fail for a package that has no place in it."""
    core, server = ROOT / "core" / "bitecore", ROOT / "server"
    _same((name for row in CORE for name in row), _packages(core), "core/bitecore")
    apps = _packages(server)
    _same(SERVER, apps, "server")
    steps = [str(p.relative_to(ROOT / "core")).replace("/", ".") for p in sorted(core.glob("*/steps"))]
    contracts = [
        {"name": "The core knows no server", "type": "forbidden", "source_modules": ["bitecore", "benchrun"],
         "forbidden_modules": apps},
        {"name": "The core knows no command line", "type": "forbidden", "source_modules": ["bitecore"], "forbidden_modules": ["benchrun"]},
        {"name": "Layers of the core", "type": "layers", "layers": [" | ".join(f"bitecore.{name}" for name in row) for row in CORE]},
        {"name": "Layers of the server", "type": "layers", "layers": list(SERVER)},
        {"name": "No step imports another", "type": "independence", "modules": [f"{folder}.*" for folder in steps]},
    ]  # fmt: skip
    return "\n".join([_head(["bitecore", "benchrun", *apps]), *(_contract(c) for c in contracts)])


def _head(roots: list[str]) -> str:
    return f"[tool.importlinter]\nroot_packages = {_listed(roots)}\n"


def _contract(contract: dict) -> str:
    rows = [f"{key} = {_listed(value) if isinstance(value, list) else _quoted(value)}" for key, value in contract.items()]
    return "\n".join(["[[tool.importlinter.contracts]]", *rows, ""])


def _listed(values: list[str]) -> str:
    return f"[{', '.join(_quoted(v) for v in values)}]"


def _quoted(value: str) -> str:
    return f'"{value}"'


def written() -> Path:
    """The configuration in a file of the checkout's own state."""
    path = ROOT / ".state" / "importlinter.toml"
    path.parent.mkdir(exist_ok=True)
    path.write_text(text())
    return path
