/** What the dialogs that take something out share: a plan that follows the choice, the job, and going on with it. */

import { api, asProblem, got, type Job, type ProblemText } from "./api";
import { newest } from "./newest";
import { app } from "./app.svelte";

const PAUSE = 180; // ms without a change before the plan is asked for

/** What every plan tells. */
export interface AnyPlan {
  files: number;
  fits: boolean;
  renamed: number;
  /** Of so many of the files the names were worked out. */
  looked: number;
  notes: { target: string; note: string }[];
}

export class TakingOut<Plan extends AnyPlan> {
  plan = $state<Plan | null>(null);
  problem = $state<ProblemText | null>(null);
  into = $state<"folder" | "zip">("folder");
  folder = $state("");
  started = $state(0);

  /** The folder as the API wants it: none for a ZIP download. */
  get target(): string {
    return this.into === "folder" ? this.folder : "";
  }

  get job(): Job | undefined {
    return app.jobs.find((j) => j.id === this.started);
  }

  get running(): boolean {
    return this.job?.state === "running" || this.job?.state === "waiting";
  }

  private asking = newest();

  /** Ask for the plan soon; the result undoes the asking. */
  ask(call: () => Promise<{ data?: Plan }>): () => void {
    const current = this.asking();
    const timer = setTimeout(async () => {
      try {
        const found = await got(call());
        if (!current()) return;
        this.plan = found;
        this.problem = null;
      } catch (error) {
        if (!current()) return;
        this.plan = null;
        this.problem = asProblem(error);
      }
    }, PAUSE);
    return () => clearTimeout(timer);
  }

  async begin(call: Promise<{ data?: Job }>): Promise<void> {
    this.problem = null;
    try {
      const next = await got(call);
      this.started = next.id;
      app.started(next);
    } catch (error) {
      this.problem = asProblem(error);
    }
  }

  again(): Promise<void> {
    return this.begin(api.POST("/api/jobs/{job_id}/again", { params: { path: { job_id: this.started } } }));
  }
}
