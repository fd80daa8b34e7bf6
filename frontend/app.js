// The office in the browser: keys, drags, small local state. The server decides everything that counts.

// Keys ---------------------------------------------------------------------------------------
const typing = (element) => element.closest("input:not([type=checkbox], [type=radio]), textarea, select, [contenteditable]");

function alongRows(step) {
  const links = [...document.querySelectorAll("#sheet [data-row]")].map((row) => row.querySelector("a")).filter(Boolean);
  if (!links.length) return;
  const here = links.indexOf(document.activeElement);
  const next = here < 0 ? (step > 0 ? 0 : links.length - 1) : Math.min(Math.max(here + step, 0), links.length - 1);
  links[next].focus();
}

const keys = {
  "/": () => document.getElementById("find").focus(),
  "?": () => document.getElementById("keys").showModal(),
  ".": () => document.querySelector("#sheet .tools a, #sheet .tools button")?.focus(),
  j: () => alongRows(1),
  k: () => alongRows(-1),
};

document.addEventListener("keydown", (event) => {
  if (event.key === "Escape") {
    document.querySelectorAll("details[open]").forEach((details) => {
      details.open = false;
      if (details.contains(document.activeElement)) details.querySelector("summary").focus();
    });
    if (document.activeElement?.id === "find") document.activeElement.blur();
    return;
  }
  if (event.ctrlKey || event.metaKey || event.altKey || typing(event.target) || document.querySelector("dialog[open]")) return;
  const marked = document.querySelector(`[data-key="${CSS.escape(event.key)}"]`);
  if (marked) {
    event.preventDefault();
    marked.click();
  } else if (keys[event.key]) {
    event.preventDefault();
    keys[event.key]();
  }
});

document.addEventListener("click", (event) => {
  document.querySelectorAll("details.pick[open], details.who[open]").forEach((details) => {
    if (!details.contains(event.target)) details.open = false;
  });
});

// Choosing several options of a condition: the server is asked once the list is closed ---------
document.addEventListener("change", (event) => {
  const pick = event.target.closest("details.pick");
  if (pick && pick !== event.target) {
    pick.dataset.changed = "yes";
    event.stopPropagation();
  }
}, true);
document.addEventListener("toggle", (event) => {
  const pick = event.target;
  if (!pick.matches?.("details.pick") || pick.open || pick.dataset.changed !== "yes") return;
  delete pick.dataset.changed;
  pick.dispatchEvent(new Event("change", { bubbles: true }));
}, true);

// A choice that only says what a button would add does not save anything.
document.addEventListener("change", (event) => {
  if (event.target.matches?.("[data-quiet]")) event.stopPropagation();
}, true);

// Order by drag; the arrows beside each line do the same by keyboard ----------------------------
function makeSortable(root) {
  root.querySelectorAll("[data-sortable]").forEach((list) => {
    if (list.sortable) return;
    list.sortable = window.Sortable.create(list, {
      handle: list.querySelector("[data-grip]") ? "[data-grip]" : undefined,
      group: list.dataset.group,
      draggable: "[data-id]",
      animation: 120,
      forceFallback: true, // one way to drag, by pointer, in every browser
      onEnd: (event) => {
        if (event.oldIndex === event.newIndex && event.from === event.to) return;
        const form = list.closest("[data-order]");
        // A form of sections sends all of them, each followed by what stands in it.
        const moved = form.matches("[data-whole-order]") ? form.querySelectorAll("[data-id]") : list.querySelectorAll(":scope > [data-id]");
        form.elements.order.value = [...moved].map((item) => item.dataset.id).join(",");
        form.submit();
      },
    });
  });
}
document.addEventListener("DOMContentLoaded", () => makeSortable(document));
document.addEventListener("htmx:after:swap", () => makeSortable(document));

// Formulas: take a remedy, put in a name ---------------------------------------------------------
function editorOf(element) {
  return document.getElementById("formula") || document.getElementById("expression");
}
document.addEventListener("click", (event) => {
  const fix = event.target.closest("[data-fix]");
  const insert = event.target.closest("[data-insert]");
  const editor = (fix || insert) && editorOf(event.target);
  if (!editor || editor.readOnly) return;
  if (fix) {
    // Places are counted in code points, the browser counts in UTF-16 units.
    const signs = [...editor.value];
    const start = signs.slice(0, Number(fix.dataset.start)).join("").length;
    const end = signs.slice(0, Number(fix.dataset.end)).join("").length;
    editor.setRangeText(fix.dataset.fix, start, end, "end");
  } else {
    editor.setRangeText(insert.dataset.insert, editor.selectionStart, editor.selectionEnd, "end");
    if (insert.dataset.back) editor.selectionEnd = editor.selectionStart = editor.selectionStart - 1;
  }
  editor.focus();
  editor.dispatchEvent(new Event("input", { bubbles: true }));
});

// Local state ---------------------------------------------------------------------------------
document.addEventListener("alpine:init", () => {
  window.Alpine.data("desk", () => ({
    init() {
      document.documentElement.classList.toggle("compact", localStorage.getItem("rows") === "compact");
    },
    toggleDensity() {
      const compact = document.documentElement.classList.toggle("compact");
      localStorage.setItem("rows", compact ? "compact" : "roomy");
    },
    showKeys() {
      document.getElementById("keys").showModal();
    },
  }));
  window.Alpine.data("formula", () => ({
    follow(event) {
      document.getElementById("formula-marks").scrollTop = event.target.scrollTop;
    },
  }));
});
