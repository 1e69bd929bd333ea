/** What every screen shares: the game, the route's state, jobs, messages, the address. */

import {
  api,
  AWAY,
  asProblem,
  attempted,
  every,
  got,
  type Game,
  type Job,
  type ProblemText,
  type Station,
} from "./api";
import { answers, ended } from "./cache";
import { EVERYTHING, type Query } from "./query";

/** Stations of the route, and the screens that are reached from one of them. */
export type StationKey =
  | "survey"
  | "locate"
  | "swap"
  | "rebuild"
  | "install"
  | "mods"
  | "changes"
  | "bench"
  | "stream"
  | "unknown"
  | "inside"
  | "lines";
const STATIONS: StationKey[] = [
  "survey",
  "locate",
  "swap",
  "rebuild",
  "install",
  "mods",
  "changes",
  "bench",
  "stream",
  "unknown",
  "inside",
  "lines",
];
const BELONGS: Partial<Record<StationKey, StationKey>> = {
  changes: "survey",
  bench: "survey",
  unknown: "survey",
  inside: "survey",
  stream: "locate",
  lines: "swap",
  mods: "swap",
};

interface Notice {
  text: string;
  action?: { label: string; run: () => void };
}

function address(station: StationKey, detail: string, game: number, search: string): string {
  return `/${game}/${station}${detail ? `/${encodeURIComponent(detail)}` : ""}${search ? `?${search}` : ""}`;
}

class App {
  games = $state<Game[]>([]);
  gameId = $state(0);
  station = $state<StationKey>("survey");
  /** Whether the settings are shown, which belong to no game. */
  settings = $state(false);
  /** What the address says beyond the station: a stream or a swap. */
  detail = $state("");
  /** What it asks of the screen: filters and the like, as a query string. */
  search = $state("");
  route = $state<Station[]>([]);
  jobs = $state<Job[]>([]);
  loaded = $state(false);
  problem = $state<ProblemText | null>(null);
  notice = $state<Notice | null>(null);
  searching = $state(false);
  /** Whether the keys are shown. */
  explaining = $state(false);
  /** What Locate lists now: the stream page goes along it. */
  query: Query = EVERYTHING;
  /** A file that was dropped on a stream elsewhere and waits for the Swap station. */
  dropped: File | null = null;

  private noticeTimer = 0;
  /** The address as it was read or written last. */
  private known = "";
  /** The number of a game for which the list was loaded anew. */
  private sought = 0;

  get game(): Game | undefined {
    return this.games.find((g) => g.id === this.gameId);
  }

  /** The stop of the route bar that the screen belongs to. */
  get stop(): StationKey {
    return BELONGS[this.station] ?? this.station;
  }

  /** The newest job of a kind, of this game. */
  lastJob(kind: string): Job | undefined {
    return this.jobs.find((j) => j.kind === kind && j.game_id === this.gameId);
  }

  get openJobs(): Job[] {
    return this.jobs.filter((j) => j.state === "waiting" || j.state === "running");
  }

  async begin(): Promise<void> {
    addEventListener("hashchange", () => this.readAddress());
    await this.loadGames();
    this.readAddress();
    this.loaded = true;
    void this.watch();
  }

  async loadGames(): Promise<void> {
    try {
      this.games = await every((query) => got(api.GET("/api/games", { params: { query } })));
    } catch (error) {
      this.problem = asProblem(error);
    }
  }

  readAddress(): void {
    this.known = location.hash;
    const [place = "", search = ""] = location.hash.split("?");
    const [, game, station, ...rest] = place.split("/");
    this.search = search;
    this.settings = game === "settings";
    if (this.settings) {
      this.gameId ||= this.games[0]?.id ?? 0;
      void this.refreshRoute();
      return;
    }
    const number = Number(game) || 0;
    if (number && number !== this.sought && !this.games.some((g) => g.id === number)) {
      this.sought = number; // it may be newer than the list
      void this.loadGames().then(() => this.readAddress());
      return;
    }
    const known = this.games.find((g) => g.id === number) ?? (game === "start" ? undefined : this.games[0]);
    if (this.gameId !== (known?.id ?? 0)) this.query = EVERYTHING;
    this.gameId = known?.id ?? 0;
    this.station = STATIONS.includes(station as StationKey)
      ? (station as StationKey)
      : known?.surveyed
        ? "locate"
        : "survey";
    this.detail = rest.map(decodeURIComponent).join("/");
    void this.refreshRoute();
  }

  go(station: StationKey, detail = "", game = this.gameId, search = ""): void {
    location.hash = address(station, detail, game, search);
  }

  /** Write down where the screen is, so that a reload, a link and going back lead there. */
  put(detail: string, search: string): void {
    if (detail === this.detail && search === this.search) return;
    if (location.hash !== this.known) return; // somebody is on the way to another place
    [this.detail, this.search] = [detail, search];
    history.replaceState(history.state, "", `#${address(this.station, detail, this.gameId, search)}`);
    this.known = location.hash;
  }

  async refreshRoute(): Promise<void> {
    if (!this.gameId) return;
    try {
      this.route = await got(
        api.GET("/api/games/{game_id}/route", { params: { path: { game_id: this.gameId } } }),
      );
    } catch (error) {
      this.problem = asProblem(error);
    }
  }

  /** Follow the jobs: often while one runs, else now and then. */
  private async watch(): Promise<void> {
    for (;;) {
      const before = new Map(this.jobs.map((j) => [j.id, j.state]));
      try {
        this.jobs = await got(api.GET("/api/jobs"));
        const done = this.jobs.filter(
          (j) => !["waiting", "running"].includes(j.state) && before.size && before.get(j.id) !== j.state,
        );
        for (const job of done) ended(job);
        if (done.length) {
          if (done.some((j) => j.kind === "survey")) await this.loadGames();
          await this.refreshRoute();
        }
        answers();
        if (this.problem?.what === AWAY.what) this.problem = null;
      } catch (error) {
        this.problem = asProblem(error);
      }
      const pause = this.openJobs.length ? 300 : 1500;
      await new Promise((done) => {
        this.wake = done as () => void;
        setTimeout(done, pause);
      });
    }
  }

  /** Look at the jobs now: something was just started. */
  wake: () => void = () => {};

  /** A job that was just started is shown before the next look at all of them. */
  started(job: Job): void {
    this.jobs = [job, ...this.jobs.filter((j) => j.id !== job.id)];
    this.wake();
    void this.refreshRoute();
  }

  async cancel(job: Job): Promise<void> {
    await this.attempt(api.POST("/api/jobs/{job_id}/cancel", { params: { path: { job_id: job.id } } }));
    this.wake();
  }

  /** Await a call; on failure show the problem and give undefined. */
  attempt<T>(call: Promise<{ data?: T }>): Promise<T | undefined> {
    return this.attempted(got(call));
  }

  /** The same of any work. */
  attempted<T>(work: Promise<T>): Promise<T | undefined> {
    return attempted(
      () => work,
      (problem) => (this.problem = problem),
    );
  }

  say(text: string, action?: Notice["action"]): void {
    clearTimeout(this.noticeTimer);
    this.notice = { text, action };
    this.noticeTimer = window.setTimeout(() => this.hush(), 10_000);
  }

  /** What was told last goes, before something else is done: its Undo would take back another thing than one means. */
  hush(): void {
    clearTimeout(this.noticeTimer);
    this.notice = null;
  }
}

export const app = new App();
