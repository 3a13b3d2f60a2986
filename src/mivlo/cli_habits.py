"""Commands for habits of the hand: rungs, balance, the same moves on another take, and a watched folder."""

from __future__ import annotations

import json
import signal
from pathlib import Path
from typing import Annotated

import typer

from mivlo.audio.whole import check_place, write_json
from mivlo.cli_mix import AsJson, existing
from mivlo.core.errors import MivloError

SheetOut = Annotated[Path, typer.Option("-o", "--output", metavar="OUT.json", help="the sheet to be written")]


def rungs(
    source: Annotated[Path, typer.Argument(metavar="IN.wav", help="the recording")],
    count: Annotated[int, typer.Option("--count", metavar="N", min=26, max=40, help="how many bands")] = 33,
    as_json: AsJson = False,
) -> None:
    """Say how loud a recording is in each auditory band."""
    existing(source)
    from mivlo.services.matching.balancing import rungs_document

    document = rungs_document(source, count)
    if as_json:
        typer.echo(json.dumps(document, indent=2))
        return
    typer.echo(f"{'from Hz':>10}{'centre':>10}{'to':>10}{'dB':>8}{'share %':>9}")
    for r in document["rungs"]:
        typer.echo(
            f"{r['from_hz']:>10.1f}{r['centre_hz']:>10.1f}{r['to_hz']:>10.1f}{r['level_db']:>8.1f}"
            f"{100 * r['share']:>9.2f}"
        )


def balance(
    source: Annotated[Path, typer.Argument(metavar="IN.wav", help="the recording")],
    towards: Annotated[Path, typer.Option("--towards", metavar="REF.wav", help="what it shall be balanced like")],
    out: SheetOut,
    strength: Annotated[
        float, typer.Option("--strength", metavar="PERCENT", min=0.0, max=100.0, help="how much of the difference")
    ] = 100.0,
    only_cuts: Annotated[bool, typer.Option("--only-cuts", help="turn nothing up")] = False,
    most: Annotated[int, typer.Option("--most", metavar="N", min=1, max=12, help="at most so many moves")] = 8,
    as_json: AsJson = False,
) -> None:
    """Bring a recording's balance towards another's by ordinary moves, compared in auditory bands at equal loudness."""
    check_sheet_place(out)
    paths = existing(source), existing(towards)
    from mivlo.services.matching.balancing import balance_files

    made, sheet, document = balance_files(*paths, strength=strength / 100.0, only_cuts=only_cuts, most=most)
    write_json(out, sheet)
    if as_json:
        typer.echo(json.dumps(document, indent=2))
        return
    moves = "1 move" if len(made.fit.moves) == 1 else f"{len(made.fit.moves)} moves"
    typer.echo(f"{moves}: the rungs differ by {made.after_db:.1f} dB RMS, {made.before_db:.1f} without.")


def retune(
    sheet: Annotated[Path, typer.Argument(metavar="SHEET.json", help="the moves")],
    to: Annotated[Path, typer.Option("--to", metavar="TRACK.wav", help="the recording that they shall fit")],
    out: SheetOut,
    original: Annotated[
        Path | None, typer.Option("--from", metavar="ORIGINAL.wav", help="the recording that they were made for")
    ] = None,
    as_json: AsJson = False,
) -> None:
    """Fit a sheet's moves to another take: each centre to its resonance there, each gain to what stands out."""
    check_sheet_place(out)
    paths = existing(sheet), existing(to), None if original is None else existing(original)
    from mivlo.services.matching.retuning import retune_sheet

    made, document = retune_sheet(*paths)
    write_json(out, made)
    if as_json:
        typer.echo(json.dumps(document, indent=2))
        return
    for move in document["moves"]:
        if move["left_out"]:
            typer.echo(f"{move['id']}: {move['from_hz']:.1f} Hz left out: {move['left_out']}")
        else:
            gain = "" if move["gain_db"] is None else f", {move['gain_db']:+.1f} dB"
            typer.echo(f"{move['id']}: {move['from_hz']:.1f} -> {move['to_hz']:.1f} Hz{gain}")


def watch(
    source: Annotated[Path, typer.Argument(metavar="IN/", help="the folder of the stems")],
    out: Annotated[Path, typer.Option("-o", "--output", metavar="OUT/", help="where the treated stems are written")],
    sheet: Annotated[
        Path | None, typer.Option("--sheet", metavar="SHEET.json", help="for stems without a sheet of their name")
    ] = None,
    once: Annotated[bool, typer.Option("--once", help="end when nothing is left to do")] = False,
) -> None:
    """Treat every stem of a folder with the sheet of its name, and again whenever one of the two changes."""
    from mivlo.services.handover.watching import Watch

    def say(text: str) -> None:
        typer.echo(text, err=not text.endswith("written."))

    ended: list[int] = []
    for number in (signal.SIGINT, signal.SIGTERM):  # the file under way is finished
        signal.signal(number, lambda got, _: ended.append(got))
    watching = Watch(source, out, sheet, say)
    watching.prepare()
    if not watching.run(once=once, ended=lambda: bool(ended)) and once:
        raise typer.Exit(1)


def check_sheet_place(out: Path) -> None:
    """MivloError where no sheet can be written."""
    if out.suffix.lower() != ".json":
        raise MivloError(f"Could not write {out.name}: a sheet's name ends in .json.")
    check_place(out)


def add_to(app: typer.Typer) -> None:
    """Register the commands."""
    for command in (rungs, balance, retune, watch):
        app.command()(command)
