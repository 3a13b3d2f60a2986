import { beforeEach, describe, expect, it } from "vitest";
import { type FakeServer, FakeEvents, freshPage, settled } from "../testing/fakes";
import { useSong } from "./song";
import { useTasks } from "./tasks";

let server: FakeServer;
beforeEach(() => {
  server = freshPage();
});
const task = (id: number, progress: number) => ({ id, kind: "analyse", label: "Track 11", state: "running", progress, message: "", attempts: 1, result: {} });

describe("the open song", () => {
  it("is the one that was open last, or the first there is", async () => {
    localStorage.setItem("mivlo.song", "99");
    const song = useSong();
    await song.start();
    await settled();
    expect(song.id).toBe(1);
    expect(song.loading).toBe(false);
    expect(localStorage.getItem("mivlo.song")).toBe("1");
  });
  it("is not set back by an answer that was long on its way", async () => {
    const song = useSong();
    await song.open(1);
    song.take({ ...server.song, revision: 5, name: "Fifth" });
    song.take({ ...server.song, revision: 3, name: "Third" });
    await settled();
    expect(song.song?.name).toBe("Fifth");
  });
  it("stays open when another one can't be opened", async () => {
    const song = useSong();
    await song.open(1);
    await settled();
    server.answer = ({ path }) => (path === "/api/songs/2" ? { status: 404, body: { detail: "There is no such song." } } : null);
    await expect(song.open(2)).rejects.toThrow("There is no such song.");
    expect(song.id).toBe(1);
  });
});

describe("news of the song", () => {
  async function open() {
    const [song, tasks] = [useSong(), useTasks()];
    await song.open(1);
    await settled();
    return { song, tasks, events: FakeEvents.last as FakeEvents };
  }
  it("are asked for under its address, and bring the newer state", async () => {
    const { song, events } = await open();
    expect(events.url).toBe("/api/songs/1/events");
    server.song = { ...server.song, revision: 2, name: "Renamed elsewhere" };
    events.tell("song", { revision: 2 });
    await settled();
    expect(song.song?.name).toBe("Renamed elsewhere");
  });
  it("of what is known already ask for nothing", async () => {
    const { events } = await open();
    const before = server.calls.length;
    events.tell("song", { revision: 1 });
    await settled();
    expect(server.calls.length).toBe(before);
  });
  it("of a task's progress move it, and of an unknown task have all told", async () => {
    server.tasks = [task(3, 0.1)];
    const { tasks, events } = await open();
    const before = server.calls.length;
    events.tell("task", { task_id: 3, progress: 0.6 });
    await settled();
    expect(tasks.open[0]?.progress).toBe(0.6);
    expect(tasks.lookingAt("Track 11")?.id).toBe(3);
    expect(server.calls.length).toBe(before);
    server.tasks = [task(3, 0.7), task(4, 0)];
    events.tell("task", { task_id: 4, progress: 0.1 });
    await settled();
    expect(tasks.all.map((t) => t.id)).toEqual([3, 4]);
  });
  it("that were missed are made up for once the server listens", async () => {
    const { song, tasks, events } = await open();
    server.song = { ...server.song, revision: 9 };
    server.tasks = [task(8, 0)];
    events.tell("ready", {});
    await settled();
    expect(song.song?.revision).toBe(9);
    expect(tasks.all.map((t) => t.id)).toEqual([8]);
  });
});
