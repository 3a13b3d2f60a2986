/** Changes of the song, one after the other: each is made against the state that the one before it left. */

import { useMutation } from "@tanstack/vue-query";
import { defineStore } from "pinia";
import { ref } from "vue";
import type { components, paths } from "../api/schema";
import { type Song, type Track, Refusal, type api, ask, changing } from "../api/client";
import { cache } from "../data/cache";
import { foundAnew, songChanged } from "../data/queries";
import { complain } from "../lib/complain";
import { type Move, type NewMove, valuesOf } from "../lib/moves";
import { useAway } from "./away";
import { useSong } from "./song";

type Body = paths["/api/songs/{song_id}/tracks/{track_id}/moves"]["post"]["requestBody"]["content"]["application/json"];
type StripValues = Partial<Pick<Track, "name" | "role" | "fader_db" | "pan" | "mute" | "solo" | "phase" | "amounts" | "aftercare">>;
type Start = Omit<components["schemas"]["NewStart"], "strip_revision">;
type MoveBody = components["schemas"]["MoveChange"];
type Api = typeof api;
type Call = (now: Song, api: Api) => Promise<Song>;
interface Change {
  /** Makes it; called when its turn has come. */
  readonly turn: () => Promise<Song>;
  /** Whether what stands out may be told otherwise after it. */
  readonly findings: boolean;
}

/** What a change of a strip is made against: only a change of the same strip conflicts. */
const strip = (now: Song, stripId: number) => ({ strip_revision: now.strips.find((x) => x.id === stripId)?.revision ?? null });
const stripOf = (now: Song, moveId: number) => now.strips.find((x) => x.moves.some((m) => m.id === moveId))?.id ?? 0;

export const useChanges = defineStore("changes", () => {
  const open = useSong();
  const away = useAway();
  const savedAt = ref<Date | null>(null);

  const made = useMutation(
    {
      scope: { id: "changes of the song" },
      mutationFn: ({ turn }: Change) => turn(),
      onSuccess: (told: Song, { findings }: Change) => {
        open.take(told);
        savedAt.value = new Date();
        if (findings) void foundAnew(told.id);
      },
      // a refusal is shown; after a conflict the present state comes with it
      onError: async (problem: Error) => {
        complain(problem);
        if (problem instanceof Refusal && problem.song) open.take(problem.song);
        else if (problem instanceof Refusal && problem.status === 409) await songChanged(open.id);
      },
    },
    cache,
  );

  /** Whether it was done. */
  function change(call: Call, findings = true): Promise<boolean> {
    const named = changing(crypto.getRandomValues(new Uint32Array(4)).join("-"));
    // what it is made against stays the same however often it is sent
    let against: Song | null = null;
    const turn = away.patiently(() => {
      against ??= open.song;
      if (!against) throw new Refusal("There is no song to change.", 404);
      return call(against, named);
    });
    return made.mutateAsync({ turn, findings }).then(() => true, () => false);
  }

  const at = () => ({ song_id: open.id });
  const track = (trackId: number) => ({ song_id: open.id, track_id: trackId });
  const finding = (findingId: number) => ({ song_id: open.id, finding_id: findingId });
  const move = (moveId: number) => ({ song_id: open.id, move_id: moveId });

  return {
    savedAt,
    rename: (name: string) =>
      change(({ outline }, api) => ask(api.PATCH("/api/songs/{song_id}", { params: { path: at() }, body: { outline, name } }))),
    setPassage: (from: number | null, to: number | null) =>
      change(({ outline }, api) =>
        ask(api.PATCH("/api/songs/{song_id}", { params: { path: at() }, body: { outline, passage_from_s: from, passage_to_s: to } })),
      ),
    changeTrack: (trackId: number, values: StripValues) =>
      change((now, api) =>
        ask(api.PATCH("/api/songs/{song_id}/tracks/{track_id}", { params: { path: track(trackId) }, body: { ...strip(now, trackId), ...values } })),
        false, // a dragged fader saves many times a second; a look that follows is told by itself
      ),
    deleteTrack: (trackId: number) =>
      change((now, api) =>
        ask(api.DELETE("/api/songs/{song_id}/tracks/{track_id}", { params: { path: track(trackId), query: strip(now, trackId) } })),
      ),
    reorder: (order: number[]) =>
      change(({ outline }, api) => ask(api.PUT("/api/songs/{song_id}/order", { params: { path: at() }, body: { outline, order } }))),
    addMove: (trackId: number, values: NewMove) =>
      change((now, api) => {
        const body = { ...strip(now, trackId), ...values } as Body;
        return ask(api.POST("/api/songs/{song_id}/tracks/{track_id}/moves", { params: { path: track(trackId) }, body }));
      }),
    addStart: (trackId: number, start: Start) =>
      change((now, api) =>
        ask(api.POST("/api/songs/{song_id}/tracks/{track_id}/starts", { params: { path: track(trackId) }, body: { ...strip(now, trackId), ...start } })),
      ),
    /** What was learned is said; null where it was refused. */
    learn: async (trackId: number, from_hz: number, to_hz: number): Promise<string | null> => {
      let says: string | null = null;
      await change(async (now, api) => {
        const made = await ask(api.POST("/api/songs/{song_id}/tracks/{track_id}/learn", { params: { path: track(trackId) }, body: { ...strip(now, trackId), from_hz, to_hz } }));
        says = made.says;
        return made.song;
      });
      return says;
    },
    addCompressor: (trackId: number) =>
      change((now, api) =>
        ask(api.POST("/api/songs/{song_id}/tracks/{track_id}/compressors", { params: { path: track(trackId), query: strip(now, trackId) } })),
      ),
    matchOutput: (trackId: number) =>
      change((now, api) =>
        ask(api.POST("/api/songs/{song_id}/tracks/{track_id}/output", { params: { path: track(trackId), query: strip(now, trackId) } })),
      ),
    changeMove: (moveId: number, values: Partial<Omit<Move, "id" | "octaves">>) =>
      change((now, api) =>
        ask(api.PATCH("/api/songs/{song_id}/moves/{move_id}", {
          params: { path: move(moveId) }, body: { ...strip(now, stripOf(now, moveId)), ...values } as MoveBody,
        })),
      ),
    deleteMove: (moveId: number) =>
      change((now, api) =>
        ask(api.DELETE("/api/songs/{song_id}/moves/{move_id}", {
          params: { path: move(moveId), query: strip(now, stripOf(now, moveId)) },
        })),
      ),
    lookInPassage: (on: boolean) =>
      change(({ outline }, api) => ask(api.PATCH("/api/songs/{song_id}", { params: { path: at() }, body: { outline, look_in_passage: on } }))),
    /** Make the proposed move, or the one into which it was adjusted. */
    acceptFinding: (findingId: number, adjusted: Move | null = null) =>
      change((_, api) => {
        const body = { move: adjusted && (valuesOf(adjusted) as Body) };
        return ask(api.POST("/api/songs/{song_id}/findings/{finding_id}/accept", { params: { path: finding(findingId) }, body }));
      }),
    rejectFinding: (findingId: number) =>
      change((_, api) => ask(api.POST("/api/songs/{song_id}/findings/{finding_id}/reject", { params: { path: finding(findingId) }, body: {} }))),
    reopenFinding: (findingId: number) =>
      change((_, api) => ask(api.POST("/api/songs/{song_id}/findings/{finding_id}/reopen", { params: { path: finding(findingId) }, body: {} }))),
    acceptCarves: (label: string, moves: readonly { track_id: number; move: Move }[]) =>
      change((_, api) => {
        const body = { label, moves: moves.map(({ track_id, move: m }) => ({ track_id, move: valuesOf(m) as Body })) };
        return ask(api.POST("/api/songs/{song_id}/clashes/accept", { params: { path: at() }, body }));
      }),
    switchCarves: (on: boolean) =>
      change((_, api) => ask(api.POST("/api/songs/{song_id}/clashes/switch", { params: { path: at() }, body: { on } }))),
    acceptFloor: (cuts: components["schemas"]["FloorCut"][]) =>
      change((_, api) => ask(api.POST("/api/songs/{song_id}/floor", { params: { path: at() }, body: { cuts } }))),
    undo: () => change((_, api) => ask(api.POST("/api/songs/{song_id}/undo", { params: { path: at() } }))),
    redo: () => change((_, api) => ask(api.POST("/api/songs/{song_id}/redo", { params: { path: at() } }))),
  };
});
