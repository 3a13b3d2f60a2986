"""`mivlo ...`: the command line. Exit codes: 0, 1 for a bad input (one sentence), 2 for usage."""

from __future__ import annotations

import json
import sys
from enum import StrEnum
from pathlib import Path
from typing import Annotated, Any

import typer

from mivlo import __version__
from mivlo.core.errors import MivloError

app = typer.Typer(
    name="mivlo", add_completion=False, no_args_is_help=True, pretty_exceptions_enable=False,
    help="Finds and cuts what rings, booms and masks on instrument tracks.",
)  # fmt: skip


class Bits(StrEnum):
    B16 = "16"
    B24 = "24"
    B32F = "32f"


def _version(asked: bool) -> None:
    if asked:
        typer.echo(f"mivlo {__version__}")
        raise typer.Exit


@app.callback()
def common(
    version: Annotated[bool, typer.Option("--version", callback=_version, is_eager=True)] = False,
) -> None:
    """Options of all commands."""


def _existing(path: Path) -> Path:
    if not path.is_file():
        raise MivloError(f"There is no file {path}. Check the name.")
    return path


@app.command()
def treat(
    source: Annotated[Path, typer.Argument(metavar="IN.wav", help="the recording")],
    moves: Annotated[Path, typer.Option("--moves", help="the sheet, JSON")],
    out: Annotated[Path, typer.Option("-o", "--output", help="where to write; .wav or .flac")],
    bits: Annotated[Bits | None, typer.Option("--bits", help="depth; as the input if left out")] = None,
) -> None:
    """Apply a sheet of moves to a recording; same length, rate and channels."""
    from mivlo.audio.decode import inspect, read_blocks
    from mivlo.audio.encode import Container, Depth, SoundWriter, depth_of
    from mivlo.core.chain import Chain
    from mivlo.services.sheets import parse_sheet

    info = inspect(_existing(source))
    steps = parse_sheet(_existing(moves).read_text(), moves.name)
    if out.exists() and out.resolve() == source.resolve():
        raise MivloError("The output would replace the input. Give another name with -o.")
    depth = Depth(bits.value) if bits else depth_of(info.subtype)
    container = Container.FLAC if out.suffix.lower() == ".flac" else Container.WAV
    chain = Chain(info.sample_rate, info.channels, steps)
    partial = out.with_name(out.name + ".part")
    try:
        with SoundWriter(partial, info.sample_rate, info.channels, depth, container) as writer:
            for block in read_blocks(source, dtype="float64"):
                writer.write(chain.process(block))
        partial.replace(out)
    finally:
        partial.unlink(missing_ok=True)
    if writer.clipped:
        typer.echo(f"{writer.clipped} samples were above full scale and were clipped.", err=True)


@app.command()
def find(
    source: Annotated[Path, typer.Argument(metavar="IN.wav", help="the recording")],
    as_json: Annotated[bool, typer.Option("--json", help="print JSON")] = False,
    from_s: Annotated[float, typer.Option("--from", min=0.0, help="start in seconds")] = 0.0,
    to_s: Annotated[float | None, typer.Option("--to", min=0.0, help="end in seconds")] = None,
) -> None:
    """Say what stands out in a recording, and which move would bring it to its surroundings."""
    import numpy as np

    from mivlo.audio.decode import inspect, read_blocks
    from mivlo.core.findings import find as find_in
    from mivlo.services.sheets import SheetMove

    info = inspect(_existing(source))
    start = int(from_s * info.sample_rate)
    stop = info.frames if to_s is None else min(info.frames, int(to_s * info.sample_rate))
    if stop <= start:
        raise MivloError(f"There is no sound between --from and --to: {source.name} lasts {info.duration_s:.2f} s.")
    blocks, at = [], 0
    for block in read_blocks(source):
        blocks.append(block[max(0, start - at) : max(0, stop - at)])
        at += len(block)
    findings = find_in(np.concatenate(blocks), sample_rate=info.sample_rate)
    if as_json:
        rows: list[dict[str, Any]] = [
            {
                "kind": f.kind,
                "frequency_hz": round(f.frequency_hz, 3),
                "bandwidth_oct": round(f.bandwidth_oct, 4),
                "excess_db": round(f.excess_db, 2),
                "confidence": f.confidence,
                "move": SheetMove.from_move(f.move).model_dump(mode="json", exclude_none=True),
            }
            for f in findings
        ]
        whole = {
            "file": str(source),
            "sample_rate": info.sample_rate,
            "duration_s": round(info.duration_s, 6),
            "findings": rows,
        }
        typer.echo(json.dumps(whole, indent=2))
        return
    if not findings:
        typer.echo("Nothing stands out.")
    for f in findings:
        typer.echo(
            f"{f.kind:8} {f.frequency_hz:8.1f} Hz  {f.excess_db:5.1f} dB over its surroundings  "
            f"{f.bandwidth_oct:5.2f} oct  confidence {f.confidence:.2f}"
        )


@app.command()
def demo(
    folder: Annotated[Path, typer.Argument(help="where to write the tracks")] = Path("tide-clock"),
) -> None:
    """Synthesise the demo song "Tide Clock" as nine WAV files, with its list of planted troubles."""
    from mivlo.demo.song import write_song

    for file in write_song(folder):
        typer.echo(str(file))


@app.command()
def serve() -> None:
    """Run the web server (MIVLO_HOST, MIVLO_PORT)."""
    import uvicorn

    from mivlo.config import settings
    from mivlo.web.app import make_app

    uvicorn.run(
        make_app(), host=settings().host, port=settings().port, log_level="warning",
        ws_max_size=1 << 20, timeout_graceful_shutdown=2,
    )  # fmt: skip


@app.command()
def worker() -> None:
    """Run one worker for long work; any number may run, on any machine that reaches the database."""
    from mivlo.jobs.queue import work

    work()


@app.command()
def migrate() -> None:
    """Bring the database's tables up to date."""
    from mivlo.launch import prepare_database

    prepare_database()


@app.command()
def start() -> None:
    """Start everything on this machine: database, demo song, worker, web server."""
    from mivlo.launch import start as start_all

    start_all(lambda text: typer.echo(text))


@app.command()
def openapi() -> None:
    """Print the OpenAPI document of the web interface."""
    from mivlo.web.app import make_app

    typer.echo(json.dumps(make_app().openapi(), indent=1))


@app.command()
def doctor() -> None:
    """Say whether database, store, worker and page are in order, and what to do if not."""
    from mivlo.doctor import examine

    healthy = True
    for check in examine():
        healthy &= check.ok
        typer.echo(f"{'ok  ' if check.ok else 'BAD '} {check.name}: {check.says}")
    if not healthy:
        raise typer.Exit(1)


def main() -> None:
    """Entry point: our own errors become one sentence and exit code 1."""
    try:
        app()
    except MivloError as error:
        print(f"mivlo: {error}", file=sys.stderr)
        sys.exit(1)


if __name__ == "__main__":
    main()
