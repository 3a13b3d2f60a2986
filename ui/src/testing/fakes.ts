/** A server, a socket and an event source for unit tests of stores: they answer as the real ones do, from memory. */

import { createPinia, setActivePinia } from "pinia";
import { vi } from "vitest";
import { markRaw } from "vue";
import type { Finding, Findings, Song, Task, Track } from "../api/client";
import { cache } from "../data/cache";
import type { Move } from "../lib/moves";

export const move = (id: number, values: Partial<Move> = {}): Move =>
  ({ id, shape: "bell", frequency_hz: 500, q: 4, gain_db: -3, slope_db_per_octave: 12, enabled: true, octaves: 0.36, ...values }) as Move;

export function song(tracks: { id: number; moves?: Move[] }[], values: Partial<Song> = {}): Song {
  const of = tracks.map(({ id, moves = [] }) => ({
    id, name: `Track ${id}`, role: "other", channels: 2, frames: 480_000, source_rate: 48_000, audio_sha256: `sound${id}`, notice: "",
    fader_db: 0, pan: 0, mute: false, solo: false, turned: false, starts_at_s: 0, reference_s: null, markers: [], open_findings: 0, decided_findings: 0, kept: [], moves,
  }));
  return {
    id: 1, name: "Fake", sample_rate: 48_000, revision: 1, outline: 1, passage_from_s: null, passage_to_s: null, look_in_passage: false,
    arrives: {}, pairs: [], playback_db_spl: 79, decisions: [], orders: [], duration_s: 10, undo_label: null, redo_label: null, tracks: of as unknown as Track[],
    strips: of.map((t) => ({ ...t, kind: "track", parent_id: null, revision: 1 })) as unknown as Song["strips"],
    ...values,
  };
}

export const finding = (id: number, hz: number, worst = 4): Finding =>
  ({
    id, state: "open", left_db: null, in_tracks: 1, song_says: "",
    document: {
      kind: "ring", frequency_hz: hz, bandwidth_oct: 0.1, worst_s: worst, loop_s: [worst - 1, worst + 3], after_db: 0.4, moments: [], evidence: null,
      move: { shape: "bell", frequency_hz: hz, q: 10, gain_db: -5, slope_db_per_octave: null },
    },
  }) as unknown as Finding;

interface Call {
  readonly method: string;
  readonly path: string;
  readonly body: Record<string, unknown> | null;
}

/** What is asked of it is kept; what it answers can be changed at any time. */
export class FakeServer {
  song = song([{ id: 11 }, { id: 12 }]);
  tasks: Task[] = [];
  findings: Findings = { fresh: true, findings: [], along: null } as unknown as Findings;
  readonly calls: Call[] = [];
  /** An answer in place of the usual one: status and body, or a promise of them. */
  answer: ((call: Call) => { status: number; body: unknown } | Promise<{ status: number; body: unknown }> | null) | null = null;

  changes = () => this.calls.filter((c) => c.method !== "GET" && !c.path.endsWith("/look"));

  private usual({ method, path }: Call): unknown {
    if (method !== "GET" && !path.endsWith("/look")) this.song = { ...this.song, revision: this.song.revision + 1 };
    if (path === "/api/songs" && method === "GET") return [{ id: 1, name: "Fake", sample_rate: 48_000, tracks: 2 }];
    if (path.endsWith("/tasks")) return this.tasks;
    if (path.endsWith("/findings")) return this.findings;
    if (path.endsWith("/repeats")) return [];
    if (path.endsWith("/profile")) return { grid_hz: [100, 1000], untreated_db: [-30, -40], treated_db: [-30, -40] };
    return this.song;
  }

  readonly fetch = async (request: Request): Promise<Response> => {
    const body = request.method === "GET" ? "" : await request.text();
    const call = { method: request.method, path: new URL(request.url).pathname, body: body ? (JSON.parse(body) as Record<string, unknown>) : null };
    this.calls.push(call);
    const own = await this.answer?.(call);
    const { status, body: told } = own ?? { status: 200, body: this.usual(call) };
    return new Response(JSON.stringify(told), { status, headers: { "Content-Type": "application/json" } });
  };
}

export class FakeEvents extends EventTarget {
  static last: FakeEvents | null = null;
  onopen = null;
  onerror = null;
  onmessage = null;
  readyState = 1;
  constructor(readonly url: string) {
    super();
    FakeEvents.last = this;
  }
  close(): void {
    this.readyState = 2;
  }
  tell(kind: string, data: unknown): void {
    this.dispatchEvent(new MessageEvent(kind, { data: JSON.stringify(data) }));
  }
}

export class FakeSocket {
  static readonly OPEN = 1;
  static all: FakeSocket[] = [];
  static get last(): FakeSocket {
    return FakeSocket.all.at(-1) as FakeSocket;
  }
  binaryType = "blob";
  readyState = 0;
  readonly sent: Record<string, unknown>[] = [];
  onopen: (() => void) | null = null;
  onclose: ((event: unknown) => void) | null = null;
  onerror: (() => void) | null = null;
  onmessage: ((event: { data: unknown }) => void) | null = null;
  constructor(readonly url: string) {
    FakeSocket.all.push(markRaw(this)); // as a browser's socket, it is never wrapped
  }
  send(text: string): void {
    this.sent.push(JSON.parse(text) as Record<string, unknown>);
  }
  close(): void {
    this.readyState = 3;
    this.onclose?.({});
  }
  open(rate = 48_000): void {
    this.readyState = 1;
    this.onopen?.();
    this.tell({ type: "hello", protocol: 2, sample_rate: rate, grid_hz: [], spectrum_hz: [] });
  }
  tell(message: unknown): void {
    this.onmessage?.({ data: JSON.stringify(message) });
  }
  of = (type: string) => this.sent.filter((m) => m.type === type);
}

/** Everything new, as on a page that has just been opened. */
export function freshPage(): FakeServer {
  const server = new FakeServer();
  localStorage.clear();
  cache.clear();
  FakeSocket.all = [];
  vi.stubGlobal("fetch", server.fetch);
  vi.stubGlobal("EventSource", FakeEvents);
  vi.stubGlobal("WebSocket", FakeSocket);
  setActivePinia(createPinia());
  return server;
}

/** Until everything that was asked for has been answered and taken over. */
export async function settled(): Promise<void> {
  for (let i = 0; i < 12; i++) await new Promise((resolve) => setTimeout(resolve, 0));
}
