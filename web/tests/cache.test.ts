import { QueryObserver } from "@tanstack/svelte-query";
import { expect, test, vi } from "vitest";
import type { Job } from "../src/lib/api";

vi.stubGlobal("location", new URL("http://127.0.0.1"));
const { cache, ended, ofGame } = await import("../src/lib/cache");
const SURVEY = { kind: "survey", game_id: 3 } as Job;

test("an answer that was on its way when a job ended is asked for again, in view or not", async () => {
  for (const inView of [false, true]) {
    const answers: ((text: string) => void)[] = [];
    const queryFn = vi.fn(() => new Promise<string>((done) => answers.push(done)));
    const question = { queryKey: ofGame(3, "list", inView), queryFn };
    const seen: unknown[] = [];
    const asked = cache.fetchQuery(question);
    if (inView) new QueryObserver(cache, question).subscribe(({ data }) => seen.push(data));
    ended(SURVEY);
    answers[0]!("before");
    expect(await asked).toBe("before");
    await vi.waitFor(() => expect(cache.isFetching({ queryKey: question.queryKey })).toBe(inView ? 1 : 0));
    const now = cache.fetchQuery(question);
    answers[1]!("after");
    expect(await now).toBe("after");
    if (inView) expect(seen.at(-1)).toBe("after");
    expect(await cache.fetchQuery(question)).toBe("after");
    expect(queryFn).toHaveBeenCalledTimes(2);
  }
});
