"""./bench run FILE... --out DIR: scans in, bodies and report.json out."""

from __future__ import annotations

import argparse
import json
import sys
import tempfile
import time
from pathlib import Path

from bitecore import forkserver
from bitecore.errors import BenchError
from bitecore.limits import BadEnvironment


class _Parser(argparse.ArgumentParser):
    def error(self, message: str) -> None:  # type: ignore[override]
        raise BenchError(f"{message[0].upper()}{message[1:]}. See ./bench run --help.")


def parser() -> argparse.ArgumentParser:
    p = _Parser(prog="./bench run", description="Take scans through the run sheet; write bodies and report.json.")
    p.add_argument("files", nargs="+", metavar="FILE", help="STL, PLY, or a ZIP of them")
    p.add_argument("--out", required=True, metavar="DIR", help="where the bodies and report.json go")
    p.add_argument("--until", default="hand-off", metavar="STEP", help="last step to do (default: hand-off)")
    p.add_argument("--frame", default=None, choices=("bench", "bite", "home", "plate"), help="coordinates of the files")
    p.add_argument("--set", action="append", default=[], metavar="STEP.KEY=VALUE", help="a setting of a step")
    p.add_argument("--jaw", action="append", default=[], metavar="FILE=upper|lower", help="which jaw a file is")
    p.add_argument("--layers", action="store_true", help="write the plate too: layers.zip and plate.3mf")
    p.add_argument("--cache", default=None, metavar="DIR", help="keep results here for the next run")
    return p


def main(argv: list[str] | None = None) -> int:
    try:
        args = parser().parse_args(argv)
        return _run(args)
    except BenchError as error:
        print(error.message, file=sys.stderr)
        return 2
    except KeyboardInterrupt:
        print("Stopped.", file=sys.stderr)
        return 130
    except BadEnvironment as error:
        print(error, file=sys.stderr)
        return 2
    except OSError as error:
        print(f"{error.strerror or error}: {error.filename or 'a file'} could not be read or written.", file=sys.stderr)
        return 2
    except Exception as error:
        print(f"Something in Bite Bench broke down ({type(error).__name__}: {error}). Please report it.", file=sys.stderr)
        return 2


def _run(args: argparse.Namespace) -> int:
    started = time.perf_counter()
    forkserver.start()
    from bitecore.blobs import FolderBlobs
    from bitecore.engine.pool import Pool
    from bitecore.runsheet import CASE, FolderStore, evaluate

    from .inputs import document_of, load
    from .report import build_report, exit_status, write_layers, write_outputs, write_proof, write_teeth

    registry = CASE.registry
    registry[args.until]
    out = Path(args.out)
    with tempfile.TemporaryDirectory(prefix="bench-run-") as temporary:
        blobs = FolderBlobs(Path(args.cache or temporary) / "blobs", durable=bool(args.cache))
        store = FolderStore(Path(args.cache or temporary), durable=bool(args.cache))
        pool = Pool(blobs)
        try:
            pool.start()  # they warm up while the files are read
            ready = Path(temporary) / "ready"
            ready.mkdir()
            sources = load([Path(f) for f in args.files], ready)
            document = document_of(sources, store, registry, args)
            out.mkdir(parents=True, exist_ok=True)
            evaluation = evaluate(document, CASE, store, runner=pool, until=args.until, demanded=frozenset({"hand-off"}))
        finally:
            pool.close()
        outputs = write_outputs(evaluation.graph, store, out, args, registry)
        write_teeth(evaluation.graph, store, out)
        write_proof(evaluation.graph, store, out, document, registry)
        if args.layers:
            write_layers(evaluation.graph, store, out)
        report = build_report(document, evaluation, registry, outputs, time.perf_counter() - started, args.until)
    (out / "report.json").write_text(json.dumps(report, indent=1) + "\n")
    status = exit_status(evaluation.graph, registry, args.until)
    _say(report, out, status)
    return status


def _say(report: dict, out: Path, status: int) -> None:
    for step in report["steps"]:
        for flag in step["flags"]:
            if flag["severity"] != "note":
                print(f"{step['step']}{' ' + step['jaw'] if step['jaw'] else ''}: {flag['message']}")
    files = sorted({o["file"] for o in report["outputs"]})
    print(f"{len(files)} files and report.json in {out}, {report['seconds']:.1f} s")
    if status == 3:
        print("Some steps did not finish; report.json says which.", file=sys.stderr)


if __name__ == "__main__":
    sys.exit(main())
