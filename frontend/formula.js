// A formula in an editor: colours by meaning, brackets, words completed, problems at their very place. The textarea stays
// what is sent; where this script does not run, it is the editor.
import { autocompletion, closeBrackets, closeBracketsKeymap, completionKeymap } from "@codemirror/autocomplete";
import { defaultKeymap, history, historyKeymap } from "@codemirror/commands";
import { bracketMatching, HighlightStyle, StreamLanguage, syntaxHighlighting } from "@codemirror/language";
import { setDiagnostics } from "@codemirror/lint";
import { Compartment, EditorState } from "@codemirror/state";
import { EditorView, keymap, placeholder } from "@codemirror/view";
import { tags } from "@lezer/highlight";

const KEYWORDS = new Set("and or not between in contains starts ends with holds any every no is filled matches else where by".split(" "));
const VALUES = new Set(["true", "false", "blank"]);
const MEANINGS = { field: tags.variableName, house: tags.propertyName, records: tags.typeName, function: tags.macroName, unknown: tags.name };
const COLOURS = HighlightStyle.define([
  { tag: tags.variableName, class: "f-field" }, { tag: tags.propertyName, class: "f-house" }, { tag: tags.typeName, class: "f-records" },
  { tag: tags.macroName, class: "f-function" }, { tag: tags.name, class: "f-unknown" }, { tag: tags.string, class: "f-text" },
  { tag: tags.number, class: "f-number" }, { tag: tags.atom, class: "f-number" }, { tag: tags.keyword, class: "f-word" },
  { tag: tags.comment, class: "f-comment" },
]);

// What each word is, by the words that may stand here; a name within a function of records may be one of theirs.
function language(words) {
  const known = new Map(words.filter((one) => one.kind !== "function").map((one) => [one.text.toLowerCase(), one.kind]));
  const functions = new Set(words.filter((one) => one.kind === "function").map((one) => one.text.replace("(", "")));
  const columns = new Set(words.filter((one) => one.kind === "records" && one.text.includes(".")).map((one) => one.text.split(".").pop()));
  function meaning(word, called) {
    if (called && functions.has(word)) return "function";
    if (VALUES.has(word)) return "atom";
    if (KEYWORDS.has(word)) return "keyword";
    return known.get(word) || (columns.has(word) ? "records" : words.length ? "unknown" : "field");
  }
  return StreamLanguage.define({
    name: "formula",
    tokenTable: MEANINGS,
    token(stream) {
      if (stream.eatSpace()) return null;
      if (stream.match(/^#.*/)) return "comment";
      if (stream.match(/^"(?:[^"\\]|\\.)*"?/) || stream.match(/^'(?:[^'\\]|\\.)*'?/)) return "string";
      if (stream.match(/^[0-9]+(?:\.[0-9]+)?%?/)) return "number";
      const word = stream.match(/^[a-z][a-z0-9_]*(?:\.[a-z][a-z0-9_]*)*/i);
      if (word) return meaning(word[0].toLowerCase(), stream.match(/^\s*\(/, false));
      stream.next();
      return null;
    },
  });
}

// Completion by the words of the office's other editors.
const completing = (textarea) => async (context) => {
  const words = await window.wordsFor(textarea);
  const what = window.begun(context.state.sliceDoc(0, context.pos));
  if (!what || (!what.part && !context.explicit)) return null;
  const found = window.offered(words, { ...what, asked: context.explicit }).slice(0, 40);
  if (!found.length) return null;
  return { from: context.pos - what.part.length, filter: false, options: found.map((one) => ({ label: one.text, detail: one.help, apply: (view, _one, from, to) => put(view, one, from, to) })) };
};
function put(view, one, from, to) {
  const called = one.kind === "function";
  const next = view.state.sliceDoc(to, to + 1);
  const text = called && next !== "(" ? `${one.text})` : one.text;
  const end = one.text.endsWith('"') && next === '"' ? to + 1 : to;
  view.dispatch({ changes: { from, to: end, insert: text }, selection: { anchor: from + one.text.length }, userEvent: "input.complete" });
}

// Problems, as the server has them below the editor; it counts code points, the editor UTF-16 units.
function problemsOf(view, list) {
  const signs = [...view.state.doc.toString()];
  const place = (count) => signs.slice(0, Number(count)).join("").length;
  return [...(list?.querySelectorAll("[data-from]") || [])].map((item) => {
    const fix = item.querySelector("[data-fix]");
    const from = place(item.dataset.from);
    return {
      from, to: Math.max(place(item.dataset.to), from), severity: "error", message: item.querySelector(".problem").textContent,
      actions: fix ? [{ name: `use ${fix.dataset.fix}`, apply: (on, start, end) => on.dispatch({ changes: { from: start, to: end, insert: fix.dataset.fix } }) }] : [],
    };
  });
}

// What is typed over a selection is put in by the editor: the browser would keep the look of what was there by a style of
// its own, which the page refuses.
function typedOver(event, view) {
  const { from, to, empty } = view.state.selection.main;
  if (event.inputType !== "insertText" || !event.data || empty || view.composing || view.state.readOnly) return false;
  event.preventDefault();
  const plainly = () => view.state.update(view.state.replaceSelection(event.data), { userEvent: "input.type", scrollIntoView: true });
  const handled = view.state.facet(EditorView.inputHandler).some((handle) => handle(view, from, to, event.data, plainly));
  if (!handled) view.dispatch(plainly());
  return true;
}

// Where the page around an editor comes anew, its form stays as it is for as long as somebody writes in it or has not saved:
// the cursor, what was typed, and the revision that it goes with.
function keepForm(textarea, view) {
  textarea.form?.toggleAttribute("hx-morph-skip", view.hasFocus || textarea.value !== textarea.defaultValue);
}

const views = new WeakMap();
function open(textarea) {
  if (views.get(textarea)?.dom.isConnected) return;
  const frame = textarea.closest(".formula");
  const grammar = new Compartment();
  let mine = false;
  const view = new EditorView({
    doc: textarea.value,
    parent: frame,
    extensions: [
      EditorView.cspNonce.of(frame.dataset.nonce), EditorView.lineWrapping, EditorState.readOnly.of(textarea.readOnly), EditorView.editable.of(!textarea.readOnly),
      EditorView.contentAttributes.of({ "aria-label": textarea.labels[0]?.textContent || "Formula", "aria-describedby": textarea.getAttribute("aria-describedby") || "", spellcheck: "false", autocapitalize: "off" }),
      EditorView.domEventHandlers({ beforeinput: typedOver }), placeholder(textarea.placeholder), history(), bracketMatching(), closeBrackets(), grammar.of(language([])), syntaxHighlighting(COLOURS), autocompletion({ override: [completing(textarea)], icons: false, tooltipClass: () => "formula-words" }),
      EditorState.changeFilter.of((change) => !change.docChanged || change.newDoc.length <= textarea.maxLength || change.newDoc.length < change.startState.doc.length),
      keymap.of([{ key: "Mod-Enter", run: () => { textarea.form.requestSubmit(); return true; } }, ...closeBracketsKeymap, ...completionKeymap, ...historyKeymap, ...defaultKeymap]),
      EditorView.updateListener.of((update) => {
        if (update.focusChanged) keepForm(textarea, view);
        if (!update.docChanged && !update.selectionSet) return;
        const here = update.state.selection.main;
        if (update.docChanged) textarea.value = update.state.doc.toString();
        textarea.setSelectionRange(here.from, here.to);
        keepForm(textarea, view);
        if (!update.docChanged || mine) return;
        mine = true;
        textarea.dispatchEvent(new Event("input", { bubbles: true }));
        mine = false;
      }),
    ],
  });
  views.set(textarea, view);
  frame.classList.add("edited");
  textarea.focus = () => view.focus();
  textarea.labels[0]?.addEventListener("click", () => view.focus());
  // Put in from beside the editor: a field, a remedy.
  textarea.addEventListener("input", () => {
    if (mine || textarea.value === view.state.doc.toString()) return;
    mine = true;
    view.dispatch({ changes: { from: 0, to: view.state.doc.length, insert: textarea.value }, selection: { anchor: textarea.selectionEnd } });
    mine = false;
  });
  const problems = () => view.dom.isConnected && view.dispatch(setDiagnostics(view.state, problemsOf(view, document.querySelector(frame.dataset.problems))));
  document.addEventListener("htmx:after:swap", problems);
  problems();
  window.wordsFor(textarea).then((words) => view.dispatch({ effects: grammar.reconfigure(language(words)) }));
}
const openAll = () => document.querySelectorAll(".formula textarea[data-editor]").forEach(open);
document.addEventListener("DOMContentLoaded", openAll);
document.addEventListener("htmx:after:swap", openAll);
