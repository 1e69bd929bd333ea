/** What the list of streams shows of each. */

import type { Stream } from "../lib/api";
import { Columns } from "../lib/columns.svelte";
import { clock, megabytes, spaced } from "../lib/format";
import { loopText } from "../lib/items";

/** A sound that is a file by itself: its bank and its archive have one name, so that its folder is told instead. */
const isLoose = (s: Stream) => s.bank === s.archive.split("/").at(-1);
const folderOf = (s: Stream) => s.archive.slice(0, Math.max(0, s.archive.lastIndexOf("/"))) || "/";

/** The columns of Locate; a stream with a swap is told by its sign. */
export function streamColumns(swapped: (s: Stream) => boolean): Columns<Stream> {
  return new Columns<Stream>("locate", () => [
    { key: "marked", label: "◆", width: 20, always: true },
    { key: "shape", label: "shape", width: 68 },
    { key: "name", label: "name", sort: "name", width: 96, grow: 1.1, always: true },
    {
      key: "id",
      label: "id",
      sort: "id",
      side: "right",
      num: true,
      width: 56,
      text: (s) => s.stream_id || "–",
    },
    {
      key: "bank",
      label: "bank",
      sort: "bank",
      width: 70,
      grow: 0.95,
      text: (s) => s.bank + (swapped(s) ? " ⇄" : ""),
      title: (s) => s.entry,
    },
    {
      key: "archive",
      label: "in",
      sort: "archive",
      width: 66,
      grow: 0.6,
      text: (s) => (isLoose(s) ? folderOf(s) : s.archive.split("/").at(-1)!),
      title: (s) => s.archive,
      quiet: () => true,
    },
    {
      key: "length",
      label: "length",
      sort: "length",
      down: true,
      side: "right",
      num: true,
      width: 72,
      text: (s) => clock(s.seconds),
    },
    {
      key: "rate",
      label: "rate, Hz",
      sort: "rate",
      side: "right",
      num: true,
      width: 52,
      text: (s) => spaced(s.rate),
    },
    {
      key: "channels",
      label: "ch",
      sort: "channels",
      side: "right",
      num: true,
      width: 20,
      text: (s) => String(s.channels),
    },
    {
      key: "kind",
      label: "kind",
      sort: "kind",
      width: 42,
      text: (s) => s.kind,
      quiet: (s) => !s.kind_given,
      title: (s) => (s.kind_given ? "your choice" : "a guess"),
    },
    {
      key: "codec",
      label: "codec",
      sort: "codec",
      width: 104,
      grow: 0.9,
      text: (s) => s.codec,
      title: (s) => s.codec,
    },
    {
      key: "loop",
      label: "loop",
      sort: "loop",
      side: "right",
      num: true,
      width: 100,
      text: loopText,
      quiet: (s) => !s.loop,
    },
    {
      key: "size",
      label: "MB",
      sort: "size",
      down: true,
      side: "right",
      num: true,
      width: 48,
      text: (s) => megabytes(s.stored),
    },
    { key: "language", label: "language", width: 70, text: (s) => s.language, spare: true },
    {
      key: "folder",
      label: "folder",
      width: 90,
      grow: 0.8,
      text: folderOf,
      title: (s) => s.archive,
      quiet: () => true,
      spare: true,
    },
    {
      key: "notes",
      label: "notes",
      width: 90,
      grow: 0.8,
      text: (s) => s.notes,
      title: (s) => s.notes,
      spare: true,
    },
  ]);
}
