<script lang="ts">
  import { autocompletion, type CompletionContext } from "@codemirror/autocomplete";
  import { yaml } from "@codemirror/lang-yaml";
  import { HighlightStyle, syntaxHighlighting } from "@codemirror/language";
  import { lintGutter, setDiagnostics } from "@codemirror/lint";
  import { EditorState } from "@codemirror/state";
  import { EditorView, hoverTooltip } from "@codemirror/view";
  import { tags } from "@lezer/highlight";
  import { basicSetup } from "codemirror";
  import type { Word } from "../lib/words";

  /** A layout's text: completion and help from the language's schema, the fault in its place. */
  let {
    text,
    readonly,
    fault,
    words,
    change,
  }: {
    text: string;
    readonly: boolean;
    fault: { line: number; what: string } | null;
    words: Word[];
    change: (text: string) => void;
  } = $props();

  let place: HTMLElement;
  let view: EditorView | undefined;

  const look = EditorView.theme({
    "&": {
      height: "100%",
      fontSize: "12.5px",
      backgroundColor: "var(--color-base-200)",
      color: "var(--color-base-content)",
    },
    ".cm-content": { fontFamily: "var(--font-mono)", caretColor: "var(--color-primary)" },
    ".cm-gutters": { backgroundColor: "var(--color-base-200)", color: "var(--quiet)", border: "none" },
    ".cm-activeLine, .cm-activeLineGutter": {
      backgroundColor: "color-mix(in oklab, var(--color-base-300) 60%, transparent)",
    },
    "&.cm-focused .cm-selectionBackground, .cm-selectionBackground": {
      backgroundColor: "color-mix(in oklab, var(--color-info) 35%, transparent) !important",
    },
    ".cm-cursor": { borderLeftColor: "var(--color-primary)" },
    ".cm-tooltip": {
      backgroundColor: "var(--color-base-300)",
      border: "1px solid var(--edge)",
      color: "var(--color-base-content)",
    },
    ".cm-tooltip-autocomplete ul li[aria-selected]": {
      backgroundColor: "var(--color-primary)",
      color: "var(--color-primary-content)",
    },
    ".cm-completionDetail": { color: "inherit", fontStyle: "normal", marginLeft: "1em" },
    ".cm-matchingBracket": {
      backgroundColor: "color-mix(in oklab, var(--color-primary) 30%, transparent) !important",
    },
    ".cm-panels": { backgroundColor: "var(--color-base-300)", color: "var(--color-base-content)" },
  });
  const colours = HighlightStyle.define([
    { tag: [tags.propertyName, tags.definition(tags.propertyName)], color: "var(--color-info)" },
    { tag: [tags.string, tags.content], color: "var(--color-base-content)" },
    { tag: [tags.number, tags.bool, tags.null], color: "var(--color-primary)" },
    { tag: [tags.comment, tags.lineComment], color: "var(--quiet)", fontStyle: "italic" },
    { tag: [tags.punctuation, tags.separator, tags.bracket], color: "var(--quiet)" },
  ]);

  function complete(context: CompletionContext) {
    const found = context.matchBefore(/[a-z_0-9.-]+/);
    if (!found && !context.explicit) return null;
    return {
      from: found?.from ?? context.pos,
      options: words.map((w) => ({
        label: w.word,
        detail: w.where,
        info: w.help || undefined,
        type: w.kind === "key" ? "property" : "constant",
        apply: w.kind === "key" ? `${w.word}: ` : w.word,
      })),
    };
  }

  const help = hoverTooltip((editor, pos) => {
    const range = editor.state.wordAt(pos);
    if (!range) return null;
    const name = editor.state.sliceDoc(range.from, range.to);
    const found = words.filter((w) => w.word === name && w.help);
    if (!found.length) return null;
    return {
      pos: range.from,
      end: range.to,
      create: () => {
        const dom = document.createElement("div");
        dom.className = "max-w-96 p-2";
        dom.textContent = found.map((w) => `${w.where}: ${w.help}`).join("\n");
        return { dom };
      },
    };
  });

  $effect(() => {
    const state = EditorState.create({
      doc: text,
      extensions: [
        basicSetup,
        yaml(),
        lintGutter(),
        look,
        syntaxHighlighting(colours),
        autocompletion({ override: [complete] }),
        help,
        EditorState.readOnly.of(readonly),
        EditorView.contentAttributes.of({ "aria-label": "Layout", tabindex: "0" }),
        EditorView.updateListener.of((u) => u.docChanged && change(u.state.doc.toString())),
      ],
    });
    view = new EditorView({ state, parent: place });
    return () => view?.destroy();
  });

  $effect(() => {
    if (!view) return;
    const doc = view.state.doc;
    const line = fault ? doc.line(Math.max(1, Math.min(fault.line, doc.lines))) : null;
    const found =
      fault && line
        ? [{ from: line.from, to: line.to, severity: "error" as const, message: fault.what }]
        : [];
    view.dispatch(setDiagnostics(view.state, found));
  });

  /** Put the cursor on a line. */
  export function goTo(line: number) {
    if (!view) return;
    const at = view.state.doc.line(Math.max(1, Math.min(line, view.state.doc.lines)));
    view.dispatch({ selection: { anchor: at.from }, scrollIntoView: true });
    view.focus();
  }
</script>

<div class="h-full min-h-0 overflow-hidden" bind:this={place}></div>
