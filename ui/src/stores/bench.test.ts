import { nextTick } from "vue";
import { beforeEach, describe, expect, it, vi } from "vitest";
import { useLive } from "../live/session";
import { type FakeServer, FakeSocket, finding, freshPage, move, settled, song } from "../testing/fakes";
import { useBench } from "./bench";
import { useFindings } from "./findings";
import { useHearing } from "./hearing";
import { useProbe } from "./probe";
import { useSong } from "./song";
import { useView } from "./view";

let server: FakeServer;

/** A bench with a track on it and a session that listens. */
async function bench() {
  await useSong().open(1);
  useLive().connect(1);
  await settled();
  FakeSocket.last.open();
  // no sound in a test: whoever plays is told that it plays
  vi.spyOn(useLive(), "togglePlay").mockResolvedValue();
  const made = useBench();
  made.look(11);
  await settled();
  return made;
}

beforeEach(() => {
  server = freshPage();
  server.song = song([{ id: 11, moves: [move(1), move(2, { frequency_hz: 900 })] }, { id: 12 }]);
  server.findings = { ...server.findings, findings: [finding(7, 400), finding(8, 800), finding(9, 1600)] };
});

describe("moves on the bench", () => {
  it("are heard while they are dragged, and saved once", async () => {
    const made = await bench();
    made.previewMove(1, { gain_db: -7 });
    made.previewMove(1, { gain_db: -8 });
    expect(made.moves[0]?.gain_db).toBe(-8);
    expect(server.changes()).toEqual([]);
    await made.saveMove(1, { gain_db: -8 });
    expect(server.changes().map((c) => c.body?.gain_db)).toEqual([-8]);
    expect(FakeSocket.last.of("moves").at(-1)).toMatchObject({ track_id: 11, moves: null });
    expect(made.dragged).toBeNull();
  });
  it("that are nudged quickly go on from what is shown", async () => {
    const made = await bench();
    const nudge = () => made.saveMove(1, { gain_db: (made.moves[0]?.gain_db ?? 0) - 0.5 });
    await Promise.all([nudge(), nudge(), nudge()]);
    expect(server.changes().map((c) => c.body?.gain_db)).toEqual([-3.5, -4, -4.5]);
  });
  it("that are dragged end with the track they are on", async () => {
    const made = await bench();
    made.previewMove(1, { gain_db: -7 });
    made.look(12);
    expect(FakeSocket.last.of("moves").at(-1)).toMatchObject({ track_id: 11, moves: null });
    expect(made.moves).toEqual([]);
  });
  it("become cuts wider than the probe, where the line is", async () => {
    const made = await bench();
    const probe = useProbe();
    probe.moveLine(1234.567);
    await made.cutAtLine();
    const body = server.changes().at(-1)?.body;
    expect(body).toMatchObject({ shape: "bell", frequency_hz: 1234.57, gain_db: -6 });
    const octaves = (2 / Math.LN2) * Math.asinh(1 / (2 * (body?.q as number)));
    expect(octaves).toBeCloseTo(1.5 * probe.values.octaves, 3);
  });
});

describe("the probe over a set", () => {
  it("sounds at all its bands and is cut as a group", async () => {
    const made = await bench();
    const probe = useProbe();
    probe.values.count = 3;
    probe.start(220);
    expect(probe.bands).toEqual([220, 440, 880]);
    expect(FakeSocket.last.of("probe").at(-1)).toMatchObject({ probe: { frequency_hz: 220, count: 3, spacing: "octaves" } });
    await made.cutAtLine();
    expect(server.changes().at(-1)?.body).toMatchObject({ from_hz: 220, count: 3, spacing: "octaves", gain_db: -6 });
    const pair = [{ hz: 300, octaves: 0.1 }, { hz: 900, octaves: 0.2 }];
    probe.hold(...pair);
    expect(probe.holds(...pair)).toBe(true);
    expect(FakeSocket.last.of("probe").at(-1)).toMatchObject({ probe: { frequency_hz: 300, mode: "alone", count: 1, also: [[900, 0.2]] } });
    probe.hold(...pair); // once more lets go
    expect(FakeSocket.last.of("probe").at(-1)).toMatchObject({ probe: null });
    probe.hold({ hz: 500, octaves: 0.2 }); // one band of a move is one band
    expect(probe.bands).toEqual([500]);
  });
});

describe("the probe", () => {
  it("sounds while it is held, and stays when it is latched", async () => {
    await bench();
    const probe = useProbe();
    probe.start(700);
    probe.release();
    probe.toggleLatch();
    probe.release();
    expect(probe.on).toBe(true);
    probe.moveLine(null); // the pointer leaves: a latched line stays
    expect(probe.line).toBe(700);
    probe.toggleLatch();
    expect(FakeSocket.last.of("probe").map((m) => (m.probe ? "on" : "off"))).toEqual(["on", "off", "on", "off"]);
  });
  it("is pulled only while it is swept", async () => {
    await bench();
    const probe = useProbe();
    probe.spots = [{ hz: 800, octaves: 0.1 }];
    probe.moveLine(805, null, true);
    expect(probe.line).toBe(805);
    probe.start(805);
    probe.moveLine(806, null, true);
    expect(probe.line).toBeLessThan(806);
    probe.moveLine(806);
    expect(probe.line).toBe(806);
  });
});

describe("what is in sight", () => {
  it("is the passage, the whole song on request, and is not moved by news of the same passage", async () => {
    server.song = { ...server.song, passage_from_s: 2, passage_to_s: 4 };
    await bench();
    const view = useView();
    expect(view.times).toEqual({ from: 2, to: 4 });
    view.times = { from: 2.5, to: 3 };
    useSong().take({ ...server.song, revision: 3, name: "Other" });
    await settled();
    expect(view.times).toEqual({ from: 2.5, to: 3 });
    view.mapWhole = true;
    await nextTick();
    expect(view.times).toEqual({ from: 0, to: 10 });
  });
});

describe("findings", () => {
  it("are gone through with the listener's own passage, which ends with them", async () => {
    await bench();
    const findings = useFindings();
    await settled();
    findings.step(1);
    expect(findings.chosenId).toBe(7);
    findings.step(-1);
    expect(findings.chosenId).toBe(9);
    findings.leave();
    expect(FakeSocket.last.of("passage").map((m) => [m.from_s, m.to_s])).toEqual([[3, 7], [3, 7], [null, null]]);
  });
  it("that are decided quickly are decided each", async () => {
    await bench();
    const findings = useFindings();
    await settled();
    findings.choose(7);
    await Promise.all([findings.accept(), findings.reject()]);
    expect(server.changes().map((c) => c.path)).toEqual(["/api/songs/1/findings/7/accept", "/api/songs/1/findings/8/reject"]);
  });
  it("are heard in four ways, and afterwards all is as before", async () => {
    await bench();
    const [findings, hearing, live] = [useFindings(), useHearing(), useLive()];
    await settled();
    findings.choose(7);
    live.state.signal = "untreated";
    findings.hear("removed");
    expect(FakeSocket.last.of("only").at(-1)?.move_ids).toHaveLength(1);
    findings.hear("boosted");
    expect(FakeSocket.last.of("signal").map((m) => m.signal)).toEqual(["removed", "untreated"]);
    expect(FakeSocket.last.of("moves").at(-1)).toMatchObject({ track_id: 11, moves: null });
    expect(FakeSocket.last.of("probe").at(-1)?.probe).toMatchObject({ frequency_hz: 400, mode: "boost" });
    findings.hear("boosted"); // the same again: no more
    expect(hearing.way).toBeNull();
    expect(FakeSocket.last.of("probe").at(-1)?.probe).toBeNull();
  });
  it("are adjusted before they are accepted, heard meanwhile", async () => {
    await bench();
    const findings = useFindings();
    await settled();
    findings.choose(7);
    findings.adjust();
    findings.tweak({ gain_db: -2 });
    expect((FakeSocket.last.of("moves").at(-1)?.moves as { gain_db: number }[]).at(-1)?.gain_db).toBe(-2);
    await findings.accept();
    expect(server.changes()[0]?.body?.move).toMatchObject({ shape: "bell", frequency_hz: 400, gain_db: -2 });
  });
  it("leave the proposal on their track when another one comes up", async () => {
    const made = await bench();
    const findings = useFindings();
    await settled();
    findings.choose(7);
    findings.hear("without");
    made.look(12);
    await settled();
    expect(FakeSocket.last.of("moves").map((m) => [m.track_id, m.moves === null])).toEqual([[11, false], [11, true]]);
    expect(findings.chosenId).toBeNull();
  });
});
