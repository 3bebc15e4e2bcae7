"""python -m standin NAME --port N --folder F: one printer, until it is stopped."""

from __future__ import annotations

import argparse
import contextlib
import signal
from pathlib import Path

from .machine import Machine
from .serve import server


def main() -> None:
    parser = argparse.ArgumentParser(prog="standin")
    parser.add_argument("name")
    parser.add_argument("--port", type=int, required=True)
    parser.add_argument("--folder", type=Path, required=True)
    parser.add_argument("--speed", type=float, default=60.0, help="seconds of printing in one second")
    args = parser.parse_args()
    signal.signal(signal.SIGTERM, signal.default_int_handler)
    with server(Machine(args.name, args.folder, speed=args.speed), args.port) as serving, contextlib.suppress(KeyboardInterrupt):
        serving.serve_forever()


if __name__ == "__main__":
    main()
