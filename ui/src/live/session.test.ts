import { nextTick } from "vue";
import { beforeEach, describe, expect, it, vi } from "vitest";
import * as complaining from "../lib/complain";
import { FakeSocket, freshPage } from "../testing/fakes";
import { useLive } from "./session";

beforeEach(() => {
  freshPage();
});
const state = { type: "state", playing: true, position_s: 3, passage: null, looping: true, focus: 11, scope: "alone", signal: "untreated", matching: true, match_lu: 1.2, removed_db: 0, placed: true, turned_down: "treated", only: [], key_of: null, exact: true, delay_ms: 0 };

describe("a listening session", () => {
  it("counts what it sends, and sends nothing before it is connected", async () => {
    const live = useLive();
    live.setSignal("removed");
    live.connect(1);
    await nextTick();
    live.setSignal("removed");
    FakeSocket.last.open();
    live.setSignal("untreated");
    live.seek(2);
    expect(FakeSocket.last.url).toMatch(/\/api\/songs\/1\/live$/);
    expect(FakeSocket.last.sent.map((m) => m.type)).toEqual(["signal", "seek"]);
    const [first, second] = FakeSocket.last.sent.map((m) => m.seq as number);
    expect(second).toBe((first as number) + 1);
    expect(live.connected).toBe(true);
  });
  it("that is lost comes back by itself, and keeps what was looked at", async () => {
    vi.useFakeTimers();
    const live = useLive();
    live.connect(1);
    await nextTick();
    FakeSocket.last.open();
    FakeSocket.last.tell(state);
    expect(live.state.playing).toBe(true);
    FakeSocket.last.close();
    expect(live.connected).toBe(false);
    expect(live.state).toMatchObject({ playing: false, focus: 11, scope: "alone", signal: "untreated" });
    vi.advanceTimersByTime(1100);
    expect(FakeSocket.all).toHaveLength(2);
    FakeSocket.last.open();
    expect(live.connected).toBe(true);
    vi.useRealTimers();
  });
  it("of another song takes the place of the first, which says nothing any more", async () => {
    const live = useLive();
    live.connect(1);
    await nextTick();
    const old = FakeSocket.last;
    old.open();
    live.connect(2);
    await nextTick();
    FakeSocket.last.open();
    old.tell(state);
    expect(live.state.playing).toBe(false);
    expect(live.connected).toBe(true);
    live.disconnect();
    await nextTick();
    expect(live.connected).toBe(false);
    expect(FakeSocket.all).toHaveLength(2);
  });
  it("tells what the server refused", async () => {
    const said = vi.spyOn(complaining, "complain").mockImplementation(() => {});
    useLive().connect(1);
    await nextTick();
    FakeSocket.last.open();
    FakeSocket.last.tell({ type: "error", message: "There is no such track." });
    expect(said).toHaveBeenCalledWith("There is no such track.");
  });
});
