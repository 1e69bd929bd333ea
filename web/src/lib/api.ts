/** The typed client. Every failed call throws a Problem: what, where, what to do next. */

import createClient, { type Middleware } from "openapi-fetch";
import type { components, paths } from "./schema";

type Schemas = components["schemas"];
export type Game = Schemas["GameOut"];
export type Station = Schemas["Station"];
export type Survey = Schemas["SurveyOut"];
export type Stream = Schemas["StreamOut"];
export type FoundLoop = Schemas["FoundLoopOut"];
export type StreamPage = Schemas["StreamPage"];
export type Group = Schemas["GroupOut"];
export type GroupPage = Schemas["GroupPage"];
export type Holder = Schemas["Holder"];
export type Entry = Schemas["EntryOut"];
export type Swap = Schemas["SwapOut"];
export type Line = Schemas["LineOut"];
export type LinePage = Schemas["LinePage"];
export type LineTake = Schemas["LineTake"];
export type LineProgress = Schemas["LineProgress"];
export type Matches = Schemas["MatchesOut"];
export type Preset = Schemas["PresetOut"];
export type PutIn = Schemas["PutInOut"];
export type EntryFile = Schemas["EntryFileOut"];
export type FileNotes = Schemas["FileNotes"];
export type Treatment = Schemas["TreatmentIn"];
export type FilePlan = Schemas["FilePlanOut"];
export type Mod = Schemas["ModOut"];
export type ModChange = Schemas["ModIn"];
export type Conflict = Schemas["ConflictOut"];
export type Conflicts = Schemas["Conflicts"];
export type Judged = Schemas["JudgedOut"];
export type Judgement = Schemas["JudgementOut"];
export type SentOfMod = Schemas["SentOut"];
export type PackageLook = Schemas["PackageOut"];
export type WhoWins = Schemas["WhoWins"];
export type Ways = Schemas["WaysOut"];
export type Forecast = Schemas["ForecastOut"];
export type ComingFile = Schemas["ComingFile"];
export type InstalledFile = Schemas["InstalledFile"];
export type Build = Schemas["BuildOut"];
export type BuiltFile = Schemas["BuiltFile"];
export type Point = Schemas["ProofOut"];
export type Result = Schemas["ResultOut"];
export type Trial = Schemas["TrialOut"];
export type Job = Schemas["JobOut"];
export type Ribbon = Schemas["Ribbon"];
export type Lengths = Schemas["Lengths"];
export type Folders = Schemas["Folders"];
export type Made = Schemas["Made"];
export type Forgotten = Schemas["Forgotten"];
export type AllowedFolder = Schemas["AllowedOut"];
export type ExportFolder = Schemas["ExportFolderOut"];
export type ProblemText = Schemas["ProblemOut"];
export type SurveyFile = Schemas["FileOut"];
export type SiftedSound = Schemas["SiftedOut"];
export type SiftedPage = Schemas["SiftedPage"];
export type DraftOut = Schemas["DraftOut"];
export type TriedLayout = Schemas["TriedOut"];
export type Key = Schemas["KeyOut"];
export type SurveyLine = Schemas["SurveyLine"];
export type Change = Schemas["ChangeOut"];
export type Changes = Schemas["Changes"];
export type TakeOutPlan = Schemas["TakeOutPlan"];
export type SoundsPlan = Schemas["SoundsPlan"];
export type Figures = Schemas["FiguresOut"];
export type TitlesPlan = Schemas["TitlesPlan"];
export type SayingOut = Schemas["SayingOut"];
export type Same = Schemas["SameOut"];
export type Neighbours = Schemas["Neighbours"];
export type UnknownFile = Schemas["UnknownFile"];
export type Ranked = Schemas["Ranked"];
export type ReadingOut = Schemas["ReadingOut"];
export type Wave = Schemas["Wave"];
export type LayoutLine = Schemas["LayoutLine"];
export type LayoutText = Schemas["LayoutText"];
export type Tried = Schemas["Tried"];
export type Item = Schemas["ItemOut"];
export type ItemPage = Schemas["ItemPage"];
export type FieldSpan = Schemas["SpanOut"];

export class Problem extends Error {
  constructor(
    readonly what: string,
    readonly where = "",
    readonly next = "",
  ) {
    super(what);
  }
}

export function asProblem(error: unknown): ProblemText {
  if (error instanceof Problem) return { what: error.what, where: error.where, next: error.next };
  return { what: String(error), where: "", next: "Reload the page." };
}

/** The work's result; where it fails, undefined, and the problem is told (null where it succeeds). */
export async function attempted<T>(
  work: () => Promise<T>,
  tell: (problem: ProblemText | null) => void,
): Promise<T | undefined> {
  try {
    const out = await work();
    tell(null);
    return out;
  } catch (error) {
    tell(asProblem(error));
    return undefined;
  }
}

/** Rows of a page at most. */
const MOST = 500;

/** All rows of a list that comes in pages. */
export async function every<T>(ask: (page: { offset: number; limit: number }) => Promise<T[]>): Promise<T[]> {
  const rows: T[] = [];
  for (;;) {
    const page = await ask({ offset: rows.length, limit: MOST });
    rows.push(...page);
    if (page.length < MOST) return rows;
  }
}

/** All folders inside one. */
export async function foldersIn(path: string): Promise<Schemas["Folders"]> {
  const ask = (offset: number) => got(api.GET("/api/folders", { params: { query: { path, offset } } }));
  const all = await ask(0);
  while (all.rows.length < all.total) {
    const { rows } = await ask(all.rows.length);
    if (!rows.length) break;
    all.rows.push(...rows);
  }
  return all;
}

export function csrfToken(): string {
  return /(?:^|; )csrftoken=([^;]+)/.exec(document.cookie)?.[1] ?? "";
}

/** What every call ends with while the server is away. */
export const AWAY = new Problem(
  "Zubret does not answer.",
  location.host,
  "Look at the window in which you started it; start it again if it has ended.",
);

/** Who is told of every request that has changed something. */
let tell: () => void = () => {};
export function tellChanges(to: typeof tell): void {
  tell = to;
}
/** Requests with a body that only ask. */
const ASKS = /\/(plan|try|spans|items|beginning|hear)$/;

const guard: Middleware = {
  onRequest({ request }) {
    if (request.method !== "GET") request.headers.set("X-CSRFToken", csrfToken());
    return request;
  },
  async onResponse({ request, response }) {
    if (response.ok) {
      if (request.method !== "GET" && !ASKS.test(new URL(request.url).pathname)) tell();
      return;
    }
    throw await problemOf(response);
  },
  onError() {
    return AWAY;
  },
};

async function problemOf(response: Response): Promise<Problem> {
  try {
    const body = await response.json();
    if (body.what) return new Problem(body.what, body.where, body.next);
  } catch {
    // not JSON: told below by its status
  }
  return new Problem(`The server answered ${response.status}.`, response.url, "Try again.");
}

export const api = createClient<paths>({ baseUrl: location.origin });
api.use(guard);

/** The data of a call; errors have become Problems on the way. */
export async function got<T>(call: Promise<{ data?: T }>): Promise<T> {
  return (await call).data as T;
}

/** Send a file with form fields; progress from 0 to 1. */
export function upload<T>(
  address: string,
  file: File | null,
  fields: Record<string, string | number>,
  progress: (share: number) => void,
): Promise<T> {
  return new Promise((resolve, reject) => {
    const form = new FormData();
    for (const [name, value] of Object.entries(fields)) form.set(name, String(value));
    if (file) form.set("file", file);
    const request = new XMLHttpRequest();
    request.open("POST", address);
    request.setRequestHeader("X-CSRFToken", csrfToken());
    request.upload.onprogress = (e) => progress(e.lengthComputable ? e.loaded / e.total : 0);
    request.onerror = () => reject(AWAY);
    request.onload = () => {
      try {
        const body = JSON.parse(request.responseText);
        if (request.status < 300) {
          resolve(body);
          tell();
        } else reject(new Problem(body.what, body.where, body.next));
      } catch {
        reject(new Problem(`The server answered ${request.status}.`, file?.name ?? "", "Try again."));
      }
    };
    request.send(form);
  });
}

// A browser opens six connections to one server. Drawings may hold two of them, so that sound and
// lists never wait behind a screen full of small waveforms; what was asked last is drawn first.
const DRAWINGS = 2;
let drawing = 0;
const undrawn: (() => void)[] = [];

async function inTurn<T>(work: () => Promise<T>): Promise<T> {
  if (drawing >= DRAWINGS) await new Promise<void>((go) => undrawn.push(go));
  drawing++;
  try {
    return await work();
  } finally {
    drawing--;
    undrawn.pop()?.();
  }
}

const peakStore = new Map<string, Promise<number[]>>();

/** Peaks of a sound (0 to 255), kept for the session: an address never changes its sound. */
export function peaks(audio: string, bins: number): Promise<number[]> {
  const key = `${audio}/${bins}`;
  let found = peakStore.get(key);
  if (!found) {
    found = inTurn(() =>
      got(api.GET("/api/audio/{address}/peaks", { params: { path: { address: audio }, query: { bins } } })),
    );
    found.catch(() => peakStore.delete(key));
    peakStore.set(key, found);
    if (peakStore.size > 2000) peakStore.delete(peakStore.keys().next().value!);
  }
  return found;
}

/** Frames [start, start + frames) as int16, channels interleaved. */
export async function pcm(
  audio: string,
  start: number,
  frames: number,
  signal?: AbortSignal,
): Promise<Int16Array> {
  const response = await fetch(`/api/audio/${audio}/pcm?start=${start}&frames=${frames}`, { signal });
  if (!response.ok) throw await problemOf(response);
  return new Int16Array(await response.arrayBuffer());
}
