/** Typed calls of the server's interface. Each one returns data or throws a Refusal with its sentence. */

import createClient from "openapi-fetch";
import { pageId } from "../lib/page";
import type { components, paths } from "./schema";

export type Song = components["schemas"]["SongOut"];
export type SongLine = components["schemas"]["SongLine"];
export type Track = components["schemas"]["TrackOut"];
export type Task = components["schemas"]["TaskOut"];
export type MapInfo = components["schemas"]["MapInfo"];
export type Profile = components["schemas"]["ProfileOut"];
export type Findings = components["schemas"]["FindingsOut"];
export type Finding = components["schemas"]["FindingOut"];
export type StartName = components["schemas"]["StartName"];
export type Start = components["schemas"]["StartOut"];
export type Levels = components["schemas"]["Levels"];
export type Cuts = components["schemas"]["Cuts"];
export type Aftercare = components["schemas"]["TrackOut"]["aftercare"];
export type AlikeMoment = components["schemas"]["AlikeOut"];
export type Repeat = components["schemas"]["RepeatOut"];
export type Edit = components["schemas"]["EditOut"];

export type Strip = components["schemas"]["StripOut"];
export type Clashes = components["schemas"]["SongClashes"];
/** Pairs are told as lists. */
export type Clash = Omit<components["schemas"]["SongClash"], "moments" | "phrase"> & { moments: number[][]; phrase: number[] };
export type HeardTrack = components["schemas"]["HeardTrack"];
export type Gathering = components["schemas"]["GatheringOut"];
export type Direction = components["schemas"]["Direction"];
export type Proposal = components["schemas"]["ProposalOut"];
export type Decision = components["schemas"]["DecisionOut"];
export type Way = components["schemas"]["Way"];

const client = (headers: Record<string, string> = {}) =>
  createClient<paths>({
    baseUrl: location.origin,
    headers: { "Mivlo-Page": pageId(), ...headers },
    fetch: (request) => fetch(request),
  });

export const api = client();

/** Calls of one change, which has a name: sent again because the answer was lost, it is not made twice. */
export const changing = (name: string): typeof api => client({ "Mivlo-Change": name });

/** The server said no; the message is meant for the user. */
export class Refusal extends Error {
  constructor(
    message: string,
    readonly status: number,
    /** The present state of the song, where the change was made against an old one. */
    readonly song: Song | null = null,
  ) {
    super(message);
  }
}

interface Answer<T> {
  data?: T;
  error?: unknown;
  response: Response;
}

function sentence(error: unknown, status: number): string {
  const detail = (error as { detail?: unknown } | undefined)?.detail;
  if (typeof detail === "string") return detail;
  return `The server answered ${status}. Run "mivlo doctor" to see what is wrong.`;
}

/** The session has ended, or there was none. */
function signIn(): void {
  location.assign(`/sign-in?next=${encodeURIComponent(location.pathname)}`);
}

export async function ask<T>(call: Promise<Answer<T>>): Promise<T> {
  let answer: Answer<T>;
  try {
    answer = await call;
  } catch {
    throw new Refusal("The server is not reachable. Is it still running?", 0);
  }
  if (answer.response.status === 401) signIn();
  if (!answer.response.ok) {
    const { song = null } = (answer.error ?? {}) as { song?: Song | null };
    throw new Refusal(sentence(answer.error, answer.response.status), answer.response.status, song);
  }
  return answer.data as T;
}

/** Bytes from an address of the interface. */
export async function bytes(address: string, signal?: AbortSignal): Promise<ArrayBuffer> {
  const response = await fetch(address, signal ? { signal } : {});
  if (!response.ok) throw new Refusal(sentence(await response.json().catch(() => ({})), response.status), response.status);
  return response.arrayBuffer();
}

/** Send a recording as it is, with progress from 0 to 1; the task that reads it. */
export const upload = (songId: number, file: File, progress: (share: number) => void): Promise<Task> =>
  send(`/api/songs/${songId}/files`, file, 202, progress);

/** Send a reference file; what it is known by from then on. */
export const bringReference = (file: File, progress: (share: number) => void): Promise<{ id: string; name: string; seconds: number }> =>
  send("/api/references", file, 201, progress);

/** Send a backup; the songs that it brought back. */
export const restore = (file: File, progress: (share: number) => void): Promise<{ song_ids: number[] }> =>
  send("/api/restore", file, 201, progress);

function send<T>(address: string, file: File, wanted: number, progress: (share: number) => void): Promise<T> {
  return new Promise((resolve, reject) => {
    const request = new XMLHttpRequest();
    request.open("POST", `${address}?name=${encodeURIComponent(file.name)}`);
    request.setRequestHeader("Mivlo-Page", pageId());
    request.responseType = "json";
    request.upload.onprogress = (event) => progress(event.lengthComputable ? event.loaded / event.total : 0);
    request.onload = () =>
      request.status === wanted
        ? resolve(request.response as T)
        : reject(new Refusal(sentence(request.response, request.status), request.status));
    request.onerror = () => reject(new Refusal(`Could not send ${file.name}: the server is not reachable.`, 0));
    request.send(file);
  });
}
