/** Changes of the song, one after the other: each is made against the state that the one before it left. */

import { useMutation } from "@tanstack/vue-query";
import { defineStore } from "pinia";
import { ref } from "vue";
import type { components, paths } from "../api/schema";
import { type Clash, type Direction, type Song, type Track, type Way, Refusal, type api, ask, changing } from "../api/client";
import { cache } from "../data/cache";
import { foundAnew, songChanged } from "../data/queries";
import { complain } from "../lib/complain";
import { dragNow } from "../lib/drag";
import { type Move, type NewMove, valuesOf } from "../lib/moves";
import type { Place } from "../lib/tree";
import { useAway } from "./away";
import { useSong } from "./song";

type Body = paths["/api/songs/{song_id}/tracks/{track_id}/moves"]["post"]["requestBody"]["content"]["application/json"];
type StripValues = Partial<Pick<Track, "name" | "role" | "fader_db" | "pan" | "mute" | "solo" | "turned" | "phase" | "amounts" | "aftercare" | "kept">>;
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
    const name = crypto.getRandomValues(new Uint32Array(4)).join("-");
    const named = changing(dragNow() ? `${dragNow()}.${name}` : name);
    // what it is made against stays the same however often it is sent
    let against: Song | null = null;
    const turn = away.patiently(() => {
      against ??= open.song;
      if (!against) throw new Refusal("There is no song to change.", 404);
      return call(against, named);
    });
    return made.mutateAsync({ turn, findings }).then(() => true, () => false);
  }

  /** A change whose answer says more than the song: that, or null where it was refused. */
  async function telling<T extends { song: Song }, S>(call: (now: Song, of: Api) => Promise<T>, says: (made: T) => S): Promise<S | null> {
    let said: S | null = null;
    await change(async (now, of) => {
      const answer = await call(now, of);
      said = says(answer);
      return answer.song;
    });
    return said;
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
    /** All tracks where the time references of their files say, or all at zero. */
    place: (by: "reference" | "zero") =>
      change((_, api) => ask(api.POST("/api/songs/{song_id}/placing", { params: { path: at() }, body: { by } }))),
    changeTrack: (trackId: number, values: StripValues) =>
      change((now, api) =>
        ask(api.PATCH("/api/songs/{song_id}/tracks/{track_id}", { params: { path: track(trackId) }, body: { ...strip(now, trackId), ...values } })),
        false, // a dragged fader saves many times a second; a look that follows is told by itself
      ),
    deleteTrack: (trackId: number) =>
      change((now, api) =>
        ask(api.DELETE("/api/songs/{song_id}/tracks/{track_id}", { params: { path: track(trackId), query: strip(now, trackId) } })),
      ),
    addGroup: (name: string, strip_ids: number[] = []) =>
      change((_, api) => ask(api.POST("/api/songs/{song_id}/groups", { params: { path: at() }, body: { name, strip_ids } }))),
    /** Into a group (null: into the mix), in front of another strip (null: behind all). */
    route: (stripId: number, { parent, before }: Place) =>
      change(({ outline }, api) => {
        const path = { song_id: open.id, strip_id: stripId };
        return ask(api.PUT("/api/songs/{song_id}/strips/{strip_id}/parent", { params: { path }, body: { outline, parent_id: parent, before_id: before } }));
      }),
    gather: (groupId: number, direction: Direction, move_ids: number[]) =>
      change(({ outline }, api) => {
        const path = { song_id: open.id, strip_id: groupId };
        return ask(api.POST("/api/songs/{song_id}/strips/{strip_id}/gather", { params: { path }, body: { outline, direction, move_ids } }));
      }),
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
    /** `alone`: what moves together with it stays. */
    changeMove: (moveId: number, values: Partial<Omit<Move, "id" | "octaves">>, alone = false) =>
      change((now, api) =>
        ask(api.PATCH("/api/songs/{song_id}/moves/{move_id}", {
          params: { path: move(moveId) }, body: { ...strip(now, stripOf(now, moveId)), ...(alone ? { alone } : {}), ...values } as MoveBody,
        })),
      ),
    deleteMove: (moveId: number) =>
      change((now, api) =>
        ask(api.DELETE("/api/songs/{song_id}/moves/{move_id}", {
          params: { path: move(moveId), query: strip(now, stripOf(now, moveId)) },
        })),
      ),
    resetMove: (moveId: number, fields: string[] = []) =>
      change((now, api) =>
        ask(api.POST("/api/songs/{song_id}/moves/{move_id}/reset", { params: { path: move(moveId) }, body: { ...strip(now, stripOf(now, moveId)), fields } })),
      ),
    resetStrip: (trackId: number) =>
      change((now, api) =>
        ask(api.POST("/api/songs/{song_id}/tracks/{track_id}/reset", { params: { path: track(trackId), query: strip(now, trackId) } })),
      ),
    orderMoves: (trackId: number, move_ids: number[]) =>
      change((now, api) =>
        ask(api.PUT("/api/songs/{song_id}/tracks/{track_id}/moves/order", { params: { path: track(trackId) }, body: { ...strip(now, trackId), move_ids } })),
      ),
    addSet: (trackId: number, set: Omit<components["schemas"]["NewSet"], "strip_revision">) =>
      change((now, api) =>
        ask(api.POST("/api/songs/{song_id}/tracks/{track_id}/sets", { params: { path: track(trackId) }, body: { ...strip(now, trackId), ...set } })),
      ),
    /** Moves on other tracks as well; what has no counterpart there is said. Null where it was refused. */
    makeTwins: (trackId: number, twins: components["schemas"]["TwinsIn"]) =>
      telling((_, api) => ask(api.POST("/api/songs/{song_id}/tracks/{track_id}/twins", { params: { path: track(trackId) }, body: twins })), (m) => m.left_out),
    fitRungs: (trackId: number, move_id: number) =>
      telling((now, api) => ask(api.POST("/api/songs/{song_id}/tracks/{track_id}/fitted", { params: { path: track(trackId) }, body: { ...strip(now, trackId), move_id, most: 10 } })), (m) => m.says),
    useRecipe: (trackId: number, recipe: string, retune: boolean) =>
      telling((now, api) => ask(api.POST("/api/songs/{song_id}/tracks/{track_id}/recipe", { params: { path: track(trackId) }, body: { ...strip(now, trackId), recipe, retune } })), (m) => m.left_out),
    putSheet: (trackId: number, name: string, text: string) =>
      telling((now, api) => ask(api.POST("/api/songs/{song_id}/tracks/{track_id}/sheet", { params: { path: track(trackId) }, body: { ...strip(now, trackId), name, text, retune: false } })), (m) => m.left_out),
    goToSnapshot: (snapshot_id: number) =>
      change((_, api) => ask(api.POST("/api/songs/{song_id}/snapshots/{snapshot_id}/go", { params: { path: { song_id: open.id, snapshot_id } } }))),
    goBackTo: (edit_id: number) =>
      change((_, api) => ask(api.POST("/api/songs/{song_id}/history/{edit_id}/go", { params: { path: { song_id: open.id, edit_id } } }))),
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
    /** Of the whole song, or of a passage alone. */
    setImportance: (track_ids: number[], passage: { from: number; to: number } | null = null) =>
      change((_, api) => ask(api.PUT("/api/songs/{song_id}/importance", { params: { path: at() }, body: { track_ids, from_s: passage?.from ?? null, to_s: passage?.to ?? null } }))),
    /** Which of two tracks keeps a place; null: as the order says. */
    decideClash: ({ covered, by, from_hz, to_hz }: Clash, way: Way | null) =>
      change((_, api) => ask(api.POST("/api/songs/{song_id}/clashes/decide", { params: { path: at() }, body: { covered, by, from_hz, to_hz, way } }))),
    setPlayback: (playback_db_spl: number) =>
      change((_, api) => ask(api.PATCH("/api/songs/{song_id}", { params: { path: at() }, body: { playback_db_spl } }))),
    switchCarves: (on: boolean) =>
      change((_, api) => ask(api.POST("/api/songs/{song_id}/clashes/switch", { params: { path: at() }, body: { on } }))),
    acceptFloor: (cuts: components["schemas"]["FloorCut"][]) =>
      change((_, api) => ask(api.POST("/api/songs/{song_id}/floor", { params: { path: at() }, body: { cuts } }))),
    undo: () => change((_, api) => ask(api.POST("/api/songs/{song_id}/undo", { params: { path: at() } }))),
    redo: () => change((_, api) => ask(api.POST("/api/songs/{song_id}/redo", { params: { path: at() } }))),
  };
});
