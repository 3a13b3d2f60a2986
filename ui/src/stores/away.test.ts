import { beforeEach, describe, expect, it, vi } from "vitest";
import { nextTick } from "vue";
import { useLive } from "../live/session";
import { FakeEvents, type FakeServer, FakeSocket, freshPage, settled } from "../testing/fakes";
import { AGAIN_MS, useAway } from "./away";
import { useChanges } from "./changes";
import { useSong } from "./song";
import { useTasks } from "./tasks";

let server: FakeServer;
const gone = { status: 503, body: { detail: "The database is away." } };

beforeEach(async () => {
  server = freshPage();
  await useSong().open(1);
  await settled();
});

describe("while the database is away", () => {
  it.each(["database", "server"] as const)("changes wait for the %s, and are sent in their order, each under one name", async (missing) => {
    vi.useFakeTimers({ toFake: ["setTimeout", "clearTimeout"] });
    const away = useAway();
    const changes = useChanges();
    let here = false;
    const seen: string[] = [];
    vi.stubGlobal("fetch", async (request: Request) => {
      if (request.method === "PATCH") seen.push(request.headers.get("Mivlo-Change") ?? "");
      if (here || request.method === "GET") return server.fetch(request);
      if (missing === "server") throw new TypeError("network");
      return new Response(JSON.stringify(gone.body), { status: 503 });
    });
    const made = [0.1, 0.2, 0.3].map((pan) => changes.changeTrack(11, { pan }));
    await vi.advanceTimersByTimeAsync(3.5 * AGAIN_MS);
    expect(away.missing).toBe(missing);
    expect(away.since).not.toBeNull();
    expect(away.waiting).toBe(3);
    expect(changes.savedAt).toBeNull();
    expect(new Set(seen).size).toBe(1); // the second does not overtake the first
    expect(seen.length).toBeGreaterThan(2);
    here = true;
    await vi.advanceTimersByTimeAsync(5 * AGAIN_MS);
    expect(await Promise.all(made)).toEqual([true, true, true]);
    expect(server.changes().map((c) => c.body?.pan)).toEqual([0.1, 0.2, 0.3]);
    expect(new Set(seen).size).toBe(3);
    expect(away.missing).toBeNull();
    expect(away.waiting).toBe(0);
    expect(changes.savedAt).not.toBeNull();
    vi.useRealTimers();
  });

  it("changes can be given up, all that wait, and later ones are made", async () => {
    const away = useAway();
    const changes = useChanges();
    server.answer = ({ method }) => (method === "PATCH" ? gone : null);
    const made = [changes.rename("A"), changes.rename("B")];
    await settled();
    away.giveUp();
    expect(await Promise.all(made)).toEqual([false, false]);
    expect(away.waiting).toBe(0);
    server.answer = null;
    expect(await changes.rename("C")).toBe(true);
    expect(server.changes().at(-1)?.body?.name).toBe("C");
  });

  it("what is refused for itself is not sent again", async () => {
    server.answer = ({ method }) => (method === "PATCH" ? { status: 422, body: { detail: "No." } } : null);
    expect(await useChanges().rename("A")).toBe(false);
    expect(server.changes()).toHaveLength(1);
    expect(useAway().missing).toBeNull();
  });

  it("it is said as soon as the server knows, and no longer than it lasts", async () => {
    useTasks();
    await settled();
    FakeEvents.last?.tell("away", {});
    expect(useAway().missing).toBe("database");
    const since = useAway().since;
    FakeEvents.last?.tell("away", {});
    expect(useAway().since).toBe(since);
    FakeEvents.last?.tell("ready", {});
    expect(useAway().missing).toBeNull();
  });

  it("a page that is opened waits for its song", async () => {
    vi.useFakeTimers({ toFake: ["setTimeout", "clearTimeout"] });
    server = freshPage();
    server.answer = () => gone;
    const song = useSong();
    await song.start();
    expect(song.loading).toBe(true);
    expect(useAway().missing).toBe("database");
    server.answer = null;
    await vi.advanceTimersByTimeAsync(1.5 * AGAIN_MS);
    expect(song.song?.name).toBe("Fake");
    expect(song.loading).toBe(false);
    expect(useAway().missing).toBeNull();
    vi.useRealTimers();
  });

  it("a listening session that was lost begins anew where it was", async () => {
    vi.useFakeTimers();
    const live = useLive();
    live.connect(1);
    await nextTick();
    FakeSocket.last.open();
    expect(FakeSocket.last.sent).toEqual([]); // a first one has nothing to go on with
    live.setPassage(1, 4);
    const probe = { frequency_hz: 400, octaves: 0.3, gain_db: 12, mode: "boost" as const, margin_db: 6 };
    live.setProbe(probe);
    const state = {
      type: "state", playing: true, position_s: 3, passage: [1, 4], looping: false, focus: 11, scope: "alone", signal: "untreated", matching: false,
      match_lu: 0, removed_db: 0, placed: true, turned_down: "treated", only: [7], key_of: 7, exact: true, delay_ms: 0,
    };
    FakeSocket.last.tell(state);
    live.seek(2.5);
    FakeSocket.last.close();
    vi.advanceTimersByTime(1100);
    FakeSocket.last.tell({ type: "waiting", message: "The database is away." });
    expect(useAway().missing).toBe("database");
    FakeSocket.last.open();
    const told = FakeSocket.last.sent.map((message) => Object.fromEntries(Object.entries(message).filter(([key]) => key !== "seq")));
    expect(told).toEqual([
      { type: "focus", track_id: 11 }, { type: "scope", scope: "alone", placed: true }, { type: "signal", signal: "untreated" },
      { type: "match", on: false }, { type: "loop", on: false }, { type: "passage", from_s: 1, to_s: 4 }, { type: "only", move_ids: [7] }, { type: "key", move_id: 7 },
      { type: "probe", probe }, { type: "seek", at_s: 2.5 }, { type: "play" },
    ]);
    FakeSocket.last.tell(state);
    FakeSocket.last.close();
    vi.advanceTimersByTime(60_000);
    FakeSocket.last.open();
    expect(FakeSocket.last.of("play")).toEqual([]); // after a long break nobody is startled
    vi.useRealTimers();
  });
});
