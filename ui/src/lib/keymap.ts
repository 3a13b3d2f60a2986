/**
 * The one table of keys. A key means the same on every screen; what is not built yet has its place already, so that
 * nothing has to move when it comes. Views bind what they can do (`useKeys`); the list of keys shows what is bound.
 */

export type Group = "Listening" | "Song" | "Screens" | "Probe" | "Findings" | "Moves" | "Clashes" | "Comparing" | "View" | "Numbers";

export interface KeyLine {
  /** As KeyboardEvent.key, with "Ctrl+" or "Shift+" before it where they are held. */
  readonly keys: readonly string[];
  readonly says: string;
  readonly group: Group;
  /** A tap switches; held for longer than HELD_MS it switches back when it is let go. */
  readonly momentary?: boolean;
}

const line = (group: Group, keys: string | readonly string[], says: string, momentary = false): KeyLine => ({
  group, keys: typeof keys === "string" ? [keys] : keys, says, momentary,
});

export const KEYMAP = {
  "listen.play": line("Listening", "Space", "play or pause"),
  "listen.alone": line("Listening", "a", "this track alone, with its companions, in the mix; held: only meanwhile", true),
  "listen.untreated": line("Listening", "t", "untreated or treated; held: only meanwhile", true),
  "listen.removed": line("Listening", "r", "removed only or treated; held: only meanwhile", true),
  "listen.match": line("Listening", "m", "match the level or not"),
  "listen.start": line("Listening", "Home", "to the start of the passage"),
  "listen.back": line("Listening", "ArrowLeft", "back by a second"),
  "listen.on": line("Listening", "ArrowRight", "on by a second"),
  "listen.from": line("Listening", "i", "passage starts here"),
  "listen.to": line("Listening", "o", "passage ends here"),
  "listen.companion": line("Listening", "u", "heard together with the track that is looked at"),
  "listen.mono": line("Listening", "Shift+m", "mono or stereo"),
  "listen.dim": line("Listening", "Shift+d", "softer by 20 dB"),

  "song.undo": line("Song", "Ctrl+z", "undo"),
  "song.redo": line("Song", ["Ctrl+Shift+z", "Ctrl+y"], "redo"),
  "song.history": line("Song", "Ctrl+h", "history"),
  "song.bypass": line("Song", "q", "all treatments of the song off or on; held: only meanwhile", true),
  "song.keys": line("Song", "?", "this list"),

  "screen.tracks": line("Screens", "1", "tracks"),
  "screen.bench": line("Screens", "2", "bench"),
  "screen.clashes": line("Screens", "3", "clashes"),
  "screen.proof": line("Screens", "4", "proof"),
  "screen.handover": line("Screens", "5", "handover"),

  "probe.hold": line("Probe", "p", "hold: probe at the line"),
  "probe.latch": line("Probe", "l", "latch the probe, hands free"),
  "probe.mode": line("Probe", "b", "boost, alone or cut"),
  "probe.narrower": line("Probe", "[", "narrower (or the wheel over the profile)"),
  "probe.wider": line("Probe", "]", "wider"),
  "probe.up": line("Probe", "ArrowUp", "line up by 1/48 octave"),
  "probe.down": line("Probe", "ArrowDown", "line down by 1/48 octave"),
  "probe.up.fine": line("Probe", "Shift+ArrowUp", "line up by 5 cents"),
  "probe.down.fine": line("Probe", "Shift+ArrowDown", "line down by 5 cents"),
  "probe.pull": line("Probe", "g", "findings pull the probe or not"),
  "probe.keep": line("Probe", "k", "keep: what suggestions and carves spare"),

  "finding.next": line("Findings", "f", "next finding"),
  "finding.before": line("Findings", "Shift+f", "finding before"),
  "finding.boosted": line("Findings", "6", "hear the finding boosted"),
  "finding.alone": line("Findings", "7", "hear the band of the finding or clash alone"),
  "finding.without": line("Findings", "8", "hear the proposed cut or carve"),
  "finding.removed": line("Findings", "9", "hear only what the proposed cut or carve removes"),
  "finding.accept": line("Findings", "y", "accept: make the proposed move"),
  "finding.adjust": line("Findings", "j", "change the proposed values first, Enter accepts"),
  "finding.reject": line("Findings", "x", "not a problem"),
  "finding.leave": line("Findings", "Escape", "leave the finding or clash"),

  "move.cut": line("Moves", "c", "cut where the line is"),
  "move.switch": line("Moves", "e", "chosen move on or off"),
  "move.only": line("Moves", "h", "hear the chosen move alone"),
  "move.duplicate": line("Moves", "d", "duplicate the chosen move"),
  "move.delete": line("Moves", ["Delete", "Backspace"], "delete the chosen move"),
  "move.next": line("Moves", "n", "choose the next move"),
  "move.bypass": line("Moves", "Shift+q", "all moves of the track off or on; held: only meanwhile", true),
  "move.rungs": line("Moves", "Shift+r", "rungs"),

  "clash.next": line("Clashes", ".", "next clash"),
  "clash.before": line("Clashes", ",", "clash before"),
  "clash.carve": line("Clashes", "Shift+c", "make the proposed carve"),
  "clash.all": line("Clashes", "Shift+e", "all carves of the song off or on"),
  "clash.way": line("Clashes", "Shift+y", "the other one has right of way"),

  "compare.snapshot": line("Comparing", "Shift+s", "keep this state as a snapshot"),
  "compare.switch": line("Comparing", "s", "between the last two snapshots", true),
  "compare.trial": line("Comparing", "Shift+t", "begin a trial"),

  "view.whole": line("View", "v", "passage or whole song"),
  "view.treated": line("View", "w", "time map before or after treatment"),
  "view.readout": line("View", "Shift+w", "figures of the line below the panels or not"),
  "view.notes": line("View", "Shift+n", "frequencies as notes with cents, or in Hz"),
  "view.closer": line("View", "+", "closer in time"),
  "view.farther": line("View", "-", "farther in time"),
  "view.higher": line("View", ">", "closer in frequency"),
  "view.lower": line("View", "<", "farther in frequency"),
  "view.all": line("View", "0", "show all"),
  "view.next": line("View", "Ctrl+ArrowDown", "next track"),
  "view.before": line("View", "Ctrl+ArrowUp", "track before"),
} satisfies Record<string, KeyLine>;

export type KeyName = keyof typeof KEYMAP;
