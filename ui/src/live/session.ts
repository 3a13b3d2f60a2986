/** The listening session: what the engine says, and what we ask of it. The page computes no sound. */

import { useWebSocket } from "@vueuse/core";
import { defineStore } from "pinia";
import { reactive, ref, shallowRef } from "vue";
import { complain } from "../lib/complain";
import { useAway } from "../stores/away";
import type { Move, NewMove } from "../lib/moves";
import { CURVES, type Curves, SOUND, type Sound, SPECTRUM, type Spectrum, decode } from "./messages";

export type Scope = "alone" | "mix";
export type Signal = "treated" | "untreated" | "removed";
export type ProbeMode = "boost" | "alone" | "cut";

/** Where the bands of a set lie. */
export type Spacing = "octaves" | "multiples";

export interface ProbeValues {
  frequency_hz: number;
  octaves: number;
  gain_db: number;
  mode: ProbeMode;
  margin_db: number;
  /** How many bands, where it is more than one: the one under the pointer is the lowest. */
  count?: number;
  spacing?: Spacing;
  /** Further bands that are heard with it while it is alone: Hz and octaves. */
  also?: readonly (readonly [number, number])[];
}

interface Hello {
  type: "hello";
  sample_rate: number;
  grid_hz: number[];
  spectrum_hz: number[];
}

interface State {
  type: "state";
  playing: boolean;
  position_s: number;
  passage: [number, number] | null;
  looping: boolean;
  focus: number | null;
  scope: Scope;
  signal: Signal;
  matching: boolean;
  match_lu: number;
  /** The lift of what is removed, in dB. */
  removed_db: number;
  /** Alone at the strip's own fader, pan and groups. */
  placed: boolean;
  /** What is heard with it then. */
  companions: number[];
  /** Which side the level match turns. */
  turned_down: "treated" | "untreated";
  only: number[];
  key_of: number | null;
  /** Whether the song is heard without any treatment, and by how much it is turned then. */
  bypassed: boolean;
  bypass_db: number;
  mono: boolean;
  dim: boolean;
  exact: boolean;
  delay_ms: number;
}

/** Of the last 3 s: peak and true peak in dB, loudness in LUFS. */
interface Level {
  peak_db: number;
  true_peak_db: number;
  lufs: number;
}

interface Report {
  type: "report";
  peak_db: [number, number];
  rms_db: [number, number];
  tracks: Record<string, number>;
  /** Gain in dB by which each move of the focused track moves at present. */
  moving: Record<number, number>;
  dropped: number;
  probe_held_back_db: number;
  limiter_db: number;
  /** The focused strip before and behind its moves, and the difference in LU. */
  levels: { in: Level; out: Level; lu: number } | null;
}

type Told = Hello | State | Report | { type: "error"; message: string } | { type: "waiting"; message: string };

/** After a longer break nobody wants to be startled. */
const PLAYS_ON_MS = 15_000;

const EMPTY_STATE: Omit<State, "type"> = {
  playing: false, position_s: 0, passage: null, looping: true, focus: null, scope: "mix", signal: "treated",
  matching: true, match_lu: 0, removed_db: 0, placed: true, companions: [], turned_down: "treated", only: [], key_of: null, bypassed: false, bypass_db: 0, mono: false, dim: false, exact: true, delay_ms: 0,
};
const EMPTY_REPORT: Omit<Report, "type"> = {
  peak_db: [-120, -120], rms_db: [-120, -120], tracks: {}, moving: {}, dropped: 0, probe_held_back_db: 0, limiter_db: 0, levels: null,
};

export const useLive = defineStore("live", () => {
  const away = useAway();
  const connected = ref(false);
  const state = reactive({ ...EMPTY_STATE });
  const report = reactive({ ...EMPTY_REPORT });
  const position = ref(0);
  const grid = shallowRef<number[]>([]);
  const spectrumGrid = shallowRef<number[]>([]);
  const spectrum = shallowRef<Spectrum | null>(null);
  const curves = shallowRef<Curves | null>(null);
  const dropped = ref(0);
  /** Time from a control message to the block that contains it, in ms, as last measured. */
  const answerMs = ref(0);

  let seq = 0;
  let sampleRate = 48000;
  let context: AudioContext | null = null;
  let player: AudioWorkletNode | null = null;
  /** Counts connections: what was played of an old one is not counted for a new one. */
  let epoch = 0;
  let blocks: { firstFrame: number; position: number; frames: number }[] = [];
  const asked = new Map<number, number>();
  /** How a session stood that was lost: the next one of the same song begins there. */
  let before: { state: typeof state; position: number; lostAt: number } | null = null;
  let own: { passage: [number | null, number | null] | null; probe: ProbeValues | null } = { passage: null, probe: null };

  const address = ref<string | undefined>();
  const { ws, close } = useWebSocket(address, {
    autoReconnect: { delay: 1000 },
    onConnected: (socket) => {
      socket.binaryType = "arraybuffer";
    },
    onMessage: (socket, { data }: MessageEvent<string | ArrayBuffer>) => {
      if (socket !== ws.value) return; // what is left of an old one
      if (typeof data === "string") told(JSON.parse(data) as Told);
      else heard(data);
    },
    onDisconnected: (socket) => {
      if (socket !== ws.value) return;
      if (connected.value) before = { state: { ...state }, position: position.value, lostAt: performance.now() };
      connected.value = false;
      Object.assign(state, { ...EMPTY_STATE, focus: state.focus, scope: state.scope, signal: state.signal });
    },
  });

  function post(message: Record<string, unknown>): boolean {
    if (ws.value?.readyState !== WebSocket.OPEN) return false;
    ws.value.send(JSON.stringify(message));
    return true;
  }

  function send(message: Record<string, unknown>): void {
    seq += 1;
    if (post({ seq, ...message })) asked.set(seq, performance.now());
  }

  function connect(id: number): void {
    rest();
    const scheme = location.protocol === "https:" ? "wss" : "ws";
    address.value = `${scheme}://${location.host}/api/songs/${id}/live`;
  }

  function disconnect(): void {
    address.value = undefined;
    close();
    rest();
  }

  /** Nothing is known of the session any more. */
  function rest(): void {
    connected.value = false;
    before = null;
    own = { passage: null, probe: null };
    flush();
    Object.assign(state, EMPTY_STATE);
    curves.value = spectrum.value = null;
  }

  /** What an old connection has sent is not played. */
  function flush(): void {
    blocks = [];
    epoch += 1;
    player?.port.postMessage({ flush: epoch });
  }

  /** The next song may have another rate: a context has one for its life. */
  function setRate(rate: number): void {
    if (rate === sampleRate) return;
    sampleRate = rate;
    void context?.close();
    context = player = null;
  }

  function told(message: Told): void {
    switch (message.type) {
      case "hello":
        setRate(message.sample_rate);
        grid.value = message.grid_hz;
        spectrumGrid.value = message.spectrum_hz;
        flush();
        resume();
        connected.value = true;
        break;
      case "state":
        Object.assign(state, message);
        if (!message.playing) {
          player?.port.postMessage({ rest: true });
          position.value = message.position_s;
          Object.assign(report, { ...EMPTY_REPORT, dropped: report.dropped });
        }
        break;
      case "report":
        Object.assign(report, message);
        break;
      case "waiting":
        away.lost("database");
        break;
      case "error":
        complain(message.message);
    }
  }

  /** A new session begins where the old one was; it plays on if that was a moment ago. */
  function resume(): void {
    if (!before) return;
    const { state: was, position: at, lostAt } = before;
    before = null;
    send({ type: "focus", track_id: was.focus });
    send({ type: "scope", scope: was.scope, placed: was.placed });
    send({ type: "signal", signal: was.signal });
    send({ type: "match", on: was.matching });
    if (was.companions.length) send({ type: "companions", track_ids: was.companions });
    if (was.mono || was.dim) send({ type: "monitor", mono: was.mono, dim: was.dim });
    if (was.bypassed) send({ type: "bypass", on: true });
    send({ type: "loop", on: was.looping });
    if (own.passage) send({ type: "passage", from_s: own.passage[0], to_s: own.passage[1] });
    if (was.only.length) send({ type: "only", move_ids: was.only });
    if (was.key_of !== null) send({ type: "key", move_id: was.key_of });
    if (own.probe) send({ type: "probe", probe: own.probe });
    send({ type: "seek", at_s: at });
    if (was.playing && performance.now() - lostAt < PLAYS_ON_MS) send({ type: "play" });
  }

  function heard(data: ArrayBuffer): void {
    const message = decode(data);
    if (message?.kind === SOUND) play(message);
    else if (message?.kind === SPECTRUM) spectrum.value = message;
    else if (message?.kind === CURVES) curves.value = message;
    const contained = message && "seq" in message ? message.seq : 0;
    for (const [number, since] of asked) {
      if (number <= contained) {
        answerMs.value = performance.now() - since;
        asked.delete(number);
      }
    }
  }

  function play(sound: Sound): void {
    blocks.push({ firstFrame: sound.firstFrame, position: sound.position, frames: sound.frames });
    player?.port.postMessage({ block: sound.samples }, [sound.samples]);
  }

  /** The place in the song of what is heard just now. */
  function follow(frames: number): void {
    while (blocks.length > 1 && (blocks[1]?.firstFrame ?? Infinity) <= frames) blocks.shift();
    const block = blocks[0];
    if (block && state.playing) {
      const into = Math.min(block.frames, Math.max(0, frames - block.firstFrame));
      position.value = block.position + into / sampleRate;
    }
  }

  async function openAudio(): Promise<void> {
    if (!context) {
      context = new AudioContext({ sampleRate, latencyHint: "interactive" });
      await context.audioWorklet.addModule("/player.js");
      player = new AudioWorkletNode(context, "mivlo-player", { numberOfInputs: 0, outputChannelCount: [2] });
      player.connect(context.destination);
      player.port.postMessage({ flush: epoch });
      let counted = -1;
      player.port.onmessage = ({ data }: MessageEvent<{ played: number; dropped: number; epoch: number }>) => {
        dropped.value = data.dropped;
        if (data.epoch !== epoch || data.played === counted) return;
        if (!post({ type: "played", frames: data.played, dropped: data.dropped })) return;
        counted = data.played;
        follow(data.played);
      };
    }
    if (context.state === "suspended") await context.resume();
  }

  async function togglePlay(): Promise<void> {
    try {
      await openAudio();
    } catch (problem) {
      complain(`The browser gives us no sound output: ${String(problem)}`);
      return;
    }
    send({ type: state.playing ? "pause" : "play" });
  }

  function setProbe(probe: ProbeValues | null): void {
    own.probe = probe;
    send({ type: "probe", probe });
  }

  /** Hear moves of a strip that are not saved; null: what is saved again. */
  function previewMoves(trackId: number, moves: readonly (Move | (NewMove & { id: number }))[] | null): void {
    send({ type: "moves", track_id: trackId, moves });
  }

  return {
    connected, state, report, position, grid, spectrumGrid, spectrum, curves, dropped, answerMs,
    connect, disconnect, togglePlay, setProbe, previewMoves,
    seek(at: number) {
      position.value = at;
      send({ type: "seek", at_s: at });
    },
    /** What this listener loops for now; the song's passage stays as it is saved. */
    setPassage(from: number | null, to: number | null) {
      own.passage = [from, to];
      send({ type: "passage", from_s: from, to_s: to });
    },
    setLoop: (on: boolean) => send({ type: "loop", on }),
    setFocus: (trackId: number | null) => send({ type: "focus", track_id: trackId }),
    /** Alone at its own fader, so that nothing leaps. */
    setScope: (scope: Scope) => send({ type: "scope", scope, placed: true }),
    /** What is heard with the strip that is looked at, where that is heard alone. */
    setCompanions: (track_ids: number[]) => send({ type: "companions", track_ids }),
    setSignal: (signal: Signal) => send({ type: "signal", signal }),
    setMatch: (on: boolean) => send({ type: "match", on }),
    /** The song without any treatment, as loud as with all. */
    setBypass: (on: boolean) => send({ type: "bypass", on }),
    setMonitor: (mono: boolean, dim: boolean) => send({ type: "monitor", mono, dim }),
    hearOnly: (moveIds: number[]) => send({ type: "only", move_ids: moveIds }),
    /** What a move listens to, and nothing else; null: as before. */
    hearKey: (moveId: number | null) => send({ type: "key", move_id: moveId }),
  };
});
