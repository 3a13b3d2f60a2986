import { beforeEach, describe, expect, it, vi } from "vitest";
import * as complaining from "../lib/complain";
import { type FakeServer, freshPage, move, settled, song } from "../testing/fakes";
import { useChanges } from "./changes";
import { useSong } from "./song";

let server: FakeServer;
beforeEach(async () => {
  server = freshPage();
  vi.spyOn(complaining, "complain").mockImplementation(() => {});
  await useSong().open(1);
  await settled();
});

describe("changes of the song", () => {
  it("are made one after the other, each against the state that the one before it left", async () => {
    const { strips, ...rest } = server.song;
    let revision = 1;
    server.answer = ({ method }) => {
      if (method !== "PATCH") return null;
      revision += 1;
      server.song = { ...rest, revision, strips: strips.map((s) => ({ ...s, revision })) };
      return { status: 200, body: server.song };
    };
    const changes = useChanges();
    await Promise.all([changes.changeTrack(11, { pan: 0.1 }), changes.changeTrack(11, { pan: 0.2 }), changes.changeTrack(11, { pan: 0.3 })]);
    expect(server.changes().map((c) => c.body)).toEqual([
      { strip_revision: 1, pan: 0.1 }, { strip_revision: 2, pan: 0.2 }, { strip_revision: 3, pan: 0.3 },
    ]);
    expect(changes.savedAt).not.toBeNull();
  });

  it("that are refused are told, and leave the present state that came with the refusal", async () => {
    const present = song([{ id: 11, moves: [move(5, { gain_db: -9 })] }], { revision: 7 });
    server.answer = ({ method }) => (method === "PATCH" ? { status: 409, body: { detail: "It was changed elsewhere.", song: present } } : null);
    const changes = useChanges();
    expect(await changes.changeTrack(11, { mute: true })).toBe(false);
    expect(complaining.complain).toHaveBeenCalledWith(expect.objectContaining({ message: "It was changed elsewhere." }));
    expect(useSong().tracks[0]?.moves[0]).toMatchObject({ gain_db: -9 });
    server.answer = null;
    expect(await changes.undo()).toBe(true); // what comes next is not held up
  });

  it("against a state that nobody knows any more have the song asked for again", async () => {
    server.answer = ({ method }) => (method === "PATCH" ? { status: 409, body: { detail: "Too old." } } : null);
    server.song = { ...server.song, revision: 4, name: "Newer" };
    await useChanges().rename("Mine");
    await settled();
    expect(useSong().song?.name).toBe("Newer");
  });

  it("name the strip that a move is on", async () => {
    server.song = song([{ id: 11 }, { id: 12, moves: [move(5)] }], { revision: 2 });
    server.song.strips = server.song.strips.map((s) => ({ ...s, revision: s.id }));
    useSong().take(server.song);
    await settled();
    await useChanges().changeMove(5, { gain_db: -4 });
    expect(server.changes().at(-1)?.body).toEqual({ strip_revision: 12, gain_db: -4 });
  });
});
