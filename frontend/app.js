// The office in the browser: keys, drags, small local state. The server decides everything that counts.

// Keys ---------------------------------------------------------------------------------------
const typing = (element) => element.closest("input:not([type=checkbox], [type=radio]), textarea, select, [contenteditable]");

function alongRows(step) {
  const links = [...document.querySelectorAll("#sheet [data-row]")].map((row) => row.querySelector("a")).filter((link) => link?.checkVisibility());
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
  t: () => alongThread(false),
  T: () => alongThread(true),
  f: () => foldHere(),
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
// The trays of a sieve: dragged by their number; the server counts them in their new order.
function makeTrays() {
  document.querySelectorAll("[data-trays]").forEach((list) => {
    if (list.sortable) return;
    // What passes by while one is dragged is told as a change, too; nothing has been changed before it is let go.
    list.addEventListener("change", (event) => { if (event.item) event.stopPropagation(); });
    list.sortable = window.Sortable.create(list, {
      handle: "[data-grip]",
      draggable: ".mesh-row",
      animation: 120,
      forceFallback: true,
      onEnd: (event) => {
        if (event.oldDraggableIndex === event.newDraggableIndex) return;
        const moved = Object.assign(document.createElement("input"), { type: "hidden", name: "action", value: `move:${event.oldDraggableIndex}:${event.newDraggableIndex}` });
        list.closest("form").append(moved);
        list.closest("form").requestSubmit();
        moved.remove();
      },
    });
  });
}
document.addEventListener("DOMContentLoaded", () => {
  makeSortable(document);
  makeTrays();
  document.querySelector("#work .question.on, #work .form-section.on > .section-head")?.scrollIntoView({ block: "nearest" });
});
document.addEventListener("htmx:after:swap", () => { makeSortable(document); makeTrays(); });

// Formulas: take a remedy, put in a name ---------------------------------------------------------
let lastEditor = null;
document.addEventListener("focusin", (event) => {
  if (event.target.matches("textarea[data-expression]")) lastEditor = event.target;
});
function editorOf() {
  if (lastEditor?.isConnected) return lastEditor;
  return document.querySelector("textarea[data-expression]");
}
document.addEventListener("click", (event) => {
  if (event.target.closest("[data-print]")) window.print();
  const fix = event.target.closest("[data-fix]");
  const insert = event.target.closest("[data-insert]");
  const editor = (fix || insert) && editorOf();
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

const EDITORS = "textarea[data-expression], [data-placeholders]";
// Completing what is typed: fields, house values, options, functions, each with one line of help ---
const wordLists = new Map();
function wordsFor(editor) {
  const address = `${document.body.dataset.words}?${editor.dataset.expression ?? editor.dataset.placeholders}`;
  if (!wordLists.has(address)) wordLists.set(address, fetch(address).then((answer) => (answer.ok ? answer.json() : [])));
  return wordLists.get(address);
}

// What stands before the cursor: an option begun after a comparison, or a word begun.
function begun(text) {
  const option = text.match(/([a-z][a-z0-9_.]*)\s*(?:!?=\s*|(?:(?:not\s+)?in|holds\s+(?:any|every|no))\s*\(\s*(?:"[^"]*",\s*)*|holds\s+)("[^"]*|[^"(),]*)$/i);
  if (option && option[2] !== undefined && /^"?[^"]*$/.test(option[2]) && !/^\s/.test(option[2])) return { of: option[1].toLowerCase(), part: option[2] };
  const word = text.match(/[a-z][a-z0-9_.]*$/i);
  return word ? { of: "", part: word[0] } : null;
}

function offered(words, what) {
  const part = what.part.replace(/^"/, "").toLowerCase();
  if (what.of) {
    const field = words.find((one) => one.text === what.of && one.options.length);
    if (field) return field.options.filter(([value, label]) => value.toLowerCase().includes(part) || label.toLowerCase().includes(part)).map(([value, label]) => ({ text: `"${value}"`, kind: "option", help: label }));
    if (what.part.startsWith('"')) return [];
  }
  if (!part) return [];
  const begins = words.filter((one) => one.text.toLowerCase().startsWith(part) && one.text.toLowerCase() !== part);
  const holds = what.asked ? words.filter((one) => !one.text.toLowerCase().startsWith(part) && one.text.toLowerCase().includes(part)) : [];
  return [...begins, ...holds];
}
// Whether what was typed is a word already: then nothing is chosen before one chooses.
const whole = (words, what) => words.some((one) => one.text.toLowerCase().split(" ").includes(what.part.toLowerCase()));

// In a text: a placeholder begun, from its brace on. Fields and house values are offered, with what stands in for a blank.
function begunPlaceholder(text) {
  const brace = text.match(/(?:^|[^{])\{([^{}]*)$/);
  return brace ? { of: "", part: brace[1], placeholder: true } : null;
}
function offeredPlaceholders(words, part) {
  const wanted = part.trim().toLowerCase();
  const fields = words.filter((one) => ["field", "house"].includes(one.kind) && `${one.text} ${one.help}`.toLowerCase().includes(wanted));
  const begins = (one) => (one.text.toLowerCase().startsWith(wanted) ? 0 : 1);
  return fields.sort((one, other) => begins(one) - begins(other)).map((one) => ({ ...one, text: `${one.text}}` }));
}

const completion = { list: null, editor: null, items: [], here: 0, part: "" };
function closeCompletion() {
  completion.list?.remove();
  for (const name of ["aria-activedescendant", "aria-controls"]) completion.editor?.removeAttribute(name);
  completion.list = completion.editor = null;
}
function mark(here) {
  completion.here = here === -1 ? -1 : (here + completion.items.length) % completion.items.length;
  [...completion.list.children].forEach((item, place) => item.setAttribute("aria-selected", String(place === completion.here)));
  if (here === -1) return;
  completion.list.children[completion.here].scrollIntoView({ block: "nearest" });
  completion.editor.setAttribute("aria-activedescendant", `completion-${completion.here}`);
}
async function complete(editor, asked = false) {
  const words = await wordsFor(editor);
  if (document.activeElement !== editor || editor.readOnly) return;
  const before = editor.value.slice(0, editor.selectionStart);
  const inText = editor.matches("[data-placeholders]");
  const what = inText ? begunPlaceholder(before) : begun(before);
  const items = !what ? [] : inText ? offeredPlaceholders(words, what.part).slice(0, 40) : offered(words, { ...what, asked }).slice(0, 9);
  closeCompletion();
  if (!items.length) return;
  const list = document.createElement("ul");
  list.id = "completion";
  list.className = "completion";
  list.setAttribute("role", "listbox");
  list.setAttribute("aria-label", "Words that could stand here");
  items.forEach((item, place) => {
    const line = document.createElement("li");
    line.id = `completion-${place}`;
    line.setAttribute("role", "option");
    const word = document.createElement("b");
    word.textContent = inText ? `{${item.text}` : item.text;
    const help = document.createElement("small");
    help.textContent = item.help;
    line.append(word, help);
    line.addEventListener("mousedown", (event) => { event.preventDefault(); mark(place); take(); });
    list.append(line);
  });
  (editor.closest(".formula") || editor).insertAdjacentElement("afterend", list);
  Object.assign(completion, { list, editor, items, part: what.part });
  editor.setAttribute("aria-controls", "completion");
  editor.setAttribute("aria-autocomplete", "list");
  mark(whole(words, what) && !asked && !inText ? -1 : 0);
}
function take() {
  const { editor, items, here, part } = completion;
  const end = editor.selectionStart;
  const closed = items[here].text.endsWith("}") && editor.value[end] === "}" ? 1 : 0;
  editor.setRangeText(items[here].text, end - part.length, end + closed, "end");
  closeCompletion();
  editor.focus();
  editor.dispatchEvent(new Event("input", { bubbles: true }));
}
document.addEventListener("input", (event) => {
  if (event.target.matches?.(EDITORS)) complete(event.target);
  if (event.target.matches?.("[data-filter]")) {
    const wanted = event.target.value.trim().toLowerCase();
    document.querySelectorAll(event.target.dataset.filter).forEach((line) => { line.hidden = !line.textContent.toLowerCase().includes(wanted); });
  }
});
document.addEventListener("focusout", (event) => { if (event.target === completion.editor) closeCompletion(); });
document.addEventListener("keydown", (event) => {
  const editor = event.target;
  if (!editor.matches?.(EDITORS)) return;
  if (event.key === " " && event.ctrlKey) { event.preventDefault(); complete(editor, true); return; }
  if (!completion.list) return;
  if (event.key === "ArrowDown") { event.preventDefault(); mark(completion.here + 1); }
  else if (event.key === "ArrowUp") { event.preventDefault(); mark(completion.here <= 0 ? completion.items.length - 1 : completion.here - 1); }
  else if ((event.key === "Enter" || event.key === "Tab") && completion.here >= 0) { event.preventDefault(); take(); }
  else if (event.key === "Escape") { event.stopPropagation(); closeCompletion(); }
}, true);

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

// A choice among many records: what is typed above the menu narrows it; what is chosen stays in it ---------------
let lookingUp;
document.addEventListener("input", (event) => {
  const box = event.target;
  if (!box.matches("[data-find-record]") || !box.dataset.findRecord) return;
  clearTimeout(lookingUp);
  lookingUp = setTimeout(async () => {
    const menu = document.getElementById(box.getAttribute("aria-controls"));
    const chosen = menu.selectedOptions[0];
    const answer = await fetch(`${document.body.dataset.records}/${box.dataset.findRecord}/titles?words=${encodeURIComponent(box.value)}`);
    if (!answer.ok) return;
    menu.innerHTML = await answer.text();
    if (!chosen?.value) return;
    if (![...menu.options].some((one) => one.value === chosen.value)) menu.append(chosen);
    menu.value = chosen.value;
  }, 200);
});

// Panels of a list: one that something was changed in stays open when the list comes back; a click elsewhere closes it.
document.addEventListener("change", (event) => {
  const panel = event.target.closest?.("[data-panel]");
  if (panel) panel.querySelector("[name=panel]").disabled = false;
}, true);
document.addEventListener("click", (event) => {
  const panel = event.target.closest?.("[data-panel]");
  document.querySelectorAll("[data-panel][open]").forEach((other) => {
    if (other === panel || !document.contains(event.target)) return;
    other.open = false;
    other.querySelector("[name=panel]").disabled = true;
  });
  if (panel && event.target.closest("button[name=action]")) panel.querySelector("[name=panel]").disabled = false;
}, true);
// What a panel holds is fetched once it opens.
document.addEventListener("toggle", (event) => {
  const link = event.target.open && event.target.querySelector("[data-once-open]");
  if (link) htmx.ajax("GET", link.href, { source: link, target: link.parentElement, select: `#${link.parentElement.id} > *`, swap: "innerHTML" });
}, true);
// A cell of a list is corrected where it stands; what is too long for it can be read in whole.
document.addEventListener("click", (event) => {
  const pen = event.target.closest?.(".edit-cell");
  if (!pen) return;
  const cell = pen.closest("td");
  htmx.ajax("GET", `${cell.closest("tr").querySelector(".strong a").href}/cell/${pen.dataset.key}`, { source: cell, target: cell, swap: "innerHTML" });
});
document.addEventListener("mouseover", (event) => {
  const cell = event.target.closest?.("td.cell");
  if (cell && cell.scrollWidth > cell.clientWidth) cell.title = cell.firstChild.textContent.trim();
});
// A long list of fields, narrowed as one types.
function narrow(box) {
  const list = document.querySelector(box.dataset.narrow);
  const words = box.value.toLowerCase().split(/\s+/).filter(Boolean);
  list.querySelectorAll("[data-words]").forEach((item) => {
    item.hidden = !words.every((word) => item.dataset.words.includes(word));
  });
  list.querySelectorAll("fieldset").forEach((group) => { group.hidden = !group.querySelector("[data-words]:not([hidden])"); });
}
document.addEventListener("input", (event) => {
  if (!event.target.dataset?.narrow) return;
  event.stopPropagation();
  narrow(event.target);
}, true);
document.addEventListener("htmx:after:swap", () => document.querySelectorAll("[data-narrow]").forEach(narrow));
document.addEventListener("change", (event) => {
  if (event.target.dataset?.narrow) event.stopPropagation();
  const name = event.target.dataset?.ticks;
  if (name) document.querySelectorAll(`[name="${name}"]`).forEach((box) => { box.checked = event.target.checked; });
}, true);

// A finder: fields to be ticked, found as one types. Enter takes the first that is left; a group is ticked as a whole.
document.addEventListener("toggle", (event) => {
  if (event.target.matches?.("[data-finder]") && event.target.open) event.target.querySelector("[type=search]").focus();
}, true);
document.addEventListener("keydown", (event) => {
  const finder = event.key === "Enter" && event.target.matches?.("[type=search]") && event.target.closest("[data-finder]");
  if (!finder) return;
  event.preventDefault();
  const left = [...finder.querySelectorAll("label[data-words]:not([hidden]) input")];
  const words = event.target.value.trim().toLowerCase();
  if (words && left.length && !left.some((box) => box.checked)) {
    (left.find((box) => box.parentElement.dataset.words.startsWith(`${words} `)) || left[0]).checked = true;
  }
  const any = finder.querySelector("label[data-words] input:checked");
  if (any) any.form.requestSubmit(finder.querySelector("[data-finder-take]"));
  else finder.querySelector("[data-reveals]")?.focus();
});
document.addEventListener("change", (event) => {
  const all = event.target;
  if (!all.matches?.("[data-all-in-group]")) return;
  all.closest("fieldset").querySelectorAll("label[data-words]:not([hidden]) input").forEach((box) => { box.checked = all.checked; });
});
// Inputs that have a meaning for some choices only.
function reveal(menu) {
  menu.closest("fieldset").querySelectorAll("[data-for]").forEach((part) => {
    part.hidden = !part.dataset.for.split(" ").includes(menu.value);
  });
}
const revealAll = () => document.querySelectorAll("[data-reveals]").forEach(reveal);
// Typing beside one of several ways chooses it.
document.addEventListener("input", (event) => {
  const way = event.target.closest?.("[data-way]")?.querySelector("input[type=radio]");
  if (way) way.checked = true;
});
document.addEventListener("change", (event) => { if (event.target.matches?.("[data-reveals]")) reveal(event.target); });
document.addEventListener("DOMContentLoaded", revealAll);
document.addEventListener("htmx:after:swap", revealAll);

// A menu of many entries opens as a list that is searched as one types; the menu stays what is sent ----------------
const menuFinder = { box: null, menu: null, here: 0 };
function closeMenuFinder(back = false) {
  const { box, menu } = menuFinder;
  menuFinder.box = menuFinder.menu = null;
  box?.remove();
  if (back) menu?.focus();
}
function entryOf(option, place) {
  const line = document.createElement("li");
  line.id = `finder-${place}`;
  line.setAttribute("role", "option");
  line.dataset.value = option.value;
  if (option.dataset.stamp) {
    const stamp = document.createElement("span");
    stamp.className = "stamp";
    stamp.textContent = option.dataset.stamp;
    line.append(stamp);
  }
  const label = document.createElement("span");
  label.textContent = option.textContent.trim();
  const key = document.createElement("span");
  key.className = "mono soft";
  key.textContent = option.dataset.key ?? option.value;
  line.append(label, key);
  return line;
}
function listEntries(words) {
  const { box, menu } = menuFinder;
  const list = box.querySelector("ul");
  list.replaceChildren();
  const wanted = words.toLowerCase().split(/\s+/).filter(Boolean);
  const fits = [...menu.options].filter((option) => {
    const text = `${option.textContent} ${option.value} ${option.dataset.group || ""}`.toLowerCase();
    return wanted.every((word) => text.includes(word));
  });
  // What is called so comes before what only stands in a group of that name.
  const rank = (option) => {
    const label = option.textContent.trim().toLowerCase();
    return label.startsWith(words.trim().toLowerCase()) ? 0 : wanted.every((word) => label.includes(word)) ? 1 : 2;
  };
  if (wanted.length) fits.sort((one, other) => rank(one) - rank(other));
  let group = "";
  fits.forEach((option, place) => {
    if (!wanted.length && (option.dataset.group || "") !== group) {
      group = option.dataset.group || "";
      const head = document.createElement("li");
      head.setAttribute("role", "presentation");
      head.className = "finder-group";
      head.textContent = group;
      list.append(head);
    }
    list.append(entryOf(option, place));
  });
  // In the rules of a form any parameter of its address can be named: written out, it is one more entry.
  const named = words.trim().toLowerCase().replace(/^page\./, "");
  if ("parameters" in menu.dataset && /^[a-z][a-z0-9_]{0,39}$/.test(named) && ![...menu.options].some((one) => one.value === `page.${named}`)) {
    list.append(entryOf(new Option(`Address parameter ${named}`, `page.${named}`), fits.length));
  }
  const chosen = fits.findIndex((option) => option.selected);
  markEntry(wanted.length ? 0 : Math.max(chosen, 0));
}
function markEntry(here) {
  const { box } = menuFinder;
  const lines = [...box.querySelectorAll("[role=option]")];
  menuFinder.here = lines.length ? (here + lines.length) % lines.length : 0;
  lines.forEach((line, place) => line.setAttribute("aria-selected", String(place === menuFinder.here)));
  const line = lines[menuFinder.here];
  (line?.previousElementSibling?.matches(".finder-group") ? line.previousElementSibling : line)?.scrollIntoView({ block: "nearest" });
  line?.scrollIntoView({ block: "nearest" });
  box.querySelector("input").setAttribute("aria-activedescendant", lines.length ? lines[menuFinder.here].id : "");
}
function takeEntry(line) {
  const { menu } = menuFinder;
  closeMenuFinder(true);
  if (!line || menu.value === line.dataset.value) return;
  if (![...menu.options].some((one) => one.value === line.dataset.value)) menu.add(new Option(line.children[0].textContent, line.dataset.value));
  menu.value = line.dataset.value;
  menu.dispatchEvent(new Event("input", { bubbles: true }));
  menu.dispatchEvent(new Event("change", { bubbles: true }));
}
function openMenuFinder(menu, typed = "") {
  closeMenuFinder();
  const box = document.createElement("div");
  box.className = "menu-finder";
  const input = document.createElement("input");
  input.type = "search";
  input.value = typed;
  input.autocomplete = "off";
  for (const [name, value] of Object.entries({ role: "combobox", "aria-expanded": "true", "aria-controls": "finder-list", "aria-label": `Find: ${menu.getAttribute("aria-label") || "an entry"}` })) input.setAttribute(name, value);
  const list = document.createElement("ul");
  list.id = "finder-list";
  list.setAttribute("role", "listbox");
  list.setAttribute("aria-label", "What fits");
  box.append(input, list);
  document.body.append(box);
  const place = menu.getBoundingClientRect();
  box.style.left = `${Math.max(8, Math.min(place.left, innerWidth - 348)) + scrollX}px`;
  box.style.top = `${place.bottom + 4 + scrollY}px`;
  Object.assign(menuFinder, { box, menu });
  listEntries(typed);
  input.focus();
}
const findable = (element) => element?.matches?.("select[data-finder-menu]") && element.options.length > 6 && !element.disabled;
document.addEventListener("mousedown", (event) => {
  if (menuFinder.box?.contains(event.target)) {
    const line = event.target.closest("[role=option]");
    if (line) { event.preventDefault(); takeEntry(line); }
    return;
  }
  if (menuFinder.box) closeMenuFinder();
  if (event.button === 0 && event.isTrusted && findable(event.target)) {
    event.preventDefault();
    openMenuFinder(event.target);
  }
});
document.addEventListener("keydown", (event) => {
  if (findable(event.target) && !event.ctrlKey && !event.metaKey && !event.altKey) {
    if (event.key === "Enter" || event.key === " " || event.key === "ArrowDown" || event.key.length === 1) {
      event.preventDefault();
      event.stopPropagation();
      openMenuFinder(event.target, event.key.length === 1 && event.key !== " " ? event.key : "");
    }
    return;
  }
  if (!menuFinder.box?.contains(event.target)) return;
  event.stopPropagation();
  const lines = [...menuFinder.box.querySelectorAll("[role=option]")];
  if (event.key === "ArrowDown") { event.preventDefault(); markEntry(menuFinder.here + 1); }
  else if (event.key === "ArrowUp") { event.preventDefault(); markEntry(menuFinder.here - 1); }
  else if (event.key === "Enter") { event.preventDefault(); takeEntry(lines[menuFinder.here]); }
  else if (event.key === "Escape" || event.key === "Tab") { event.preventDefault(); closeMenuFinder(true); }
}, true);
document.addEventListener("input", (event) => {
  if (!menuFinder.box?.contains(event.target)) return;
  event.stopPropagation();
  listEntries(event.target.value);
}, true);
document.addEventListener("htmx:after:swap", () => closeMenuFinder());

// A text with placeholders, as somebody would read it; whoever that is to be is found by name -----------------------
let readingAgain;
async function showReading(editor) {
  let box = document.getElementById(`${editor.id}-read`);
  if (!editor.value.includes("{")) { box?.remove(); return; }
  const who = sessionStorage.getItem("reads") || "";
  const address = document.body.dataset.words.replace(/words$/, "reads");
  const answer = await fetch(`${address}?${editor.dataset.placeholders}&${new URLSearchParams({ text: editor.value, who })}`);
  if (!answer.ok || !editor.isConnected) return;
  const read = await answer.json();
  if (!box) {
    box = document.createElement("div");
    box.id = `${editor.id}-read`;
    box.className = "reads";
    const label = document.createElement("label");
    label.textContent = "As read by ";
    const input = document.createElement("input");
    input.dataset.reads = editor.id;
    input.autocomplete = "off";
    input.size = 14;
    label.append(input);
    const words = document.createElement("p");
    words.setAttribute("aria-live", "polite");
    box.append(label, words);
    editor.insertAdjacentElement("afterend", box);
  }
  const input = box.querySelector("input");
  if (document.activeElement !== input) input.value = read.person || "nobody yet";
  const words = box.querySelector("p");
  words.textContent = read.problem || read.text;
  words.className = read.problem ? "problem" : "";
}
document.addEventListener("input", (event) => {
  const text = event.target;
  if (text.dataset?.reads) { event.stopPropagation(); sessionStorage.setItem("reads", text.value); }
  const editor = text.dataset?.reads ? document.getElementById(text.dataset.reads) : text;
  if (!editor?.matches?.("[data-placeholders]")) return;
  clearTimeout(readingAgain);
  readingAgain = setTimeout(() => showReading(editor), 300);
}, true);
document.addEventListener("change", (event) => { if (event.target.dataset?.reads) event.stopPropagation(); }, true);
document.addEventListener("focusin", (event) => { if (event.target.matches?.("[data-placeholders]")) showReading(event.target); });

// What somebody holds, and what they are choosing: help beside a rule, with a person in view --------------------------
function showHeld(help, who) {
  const address = document.body.dataset.words.replace(/words$/, "held");
  htmx.ajax("GET", `${address}?${new URLSearchParams({ who, of: help.dataset.held })}`, { target: help.querySelector("div"), swap: "innerHTML" });
}
document.addEventListener("toggle", (event) => {
  const help = event.target;
  if (help.matches?.("[data-held]") && help.open && !help.querySelector("dl")) showHeld(help, sessionStorage.getItem("reads") || "");
}, true);
let heldAgain;
for (const kind of ["input", "change"]) {
  document.addEventListener(kind, (event) => {
    if (event.target.dataset?.heldWho === undefined) return;
    event.stopPropagation();
    if (kind !== "change") return;
    sessionStorage.setItem("reads", event.target.value);
    clearTimeout(heldAgain);
    heldAgain = setTimeout(() => showHeld(event.target.closest("[data-held]"), event.target.value), 50);
  }, true);
}

// A sowing plan: the arrows go from cell to cell ---------------------------------------------------
document.addEventListener("keydown", (event) => {
  const step = { ArrowLeft: [0, -1], ArrowRight: [0, 1], ArrowUp: [-1, 0], ArrowDown: [1, 0] }[event.key];
  const cell = step && event.target.closest("[data-sowing] td, [data-sowing] th");
  if (!cell || event.altKey || event.ctrlKey || event.metaKey) return;
  event.preventDefault();
  const rows = [...cell.closest("table").rows];
  let row = rows.indexOf(cell.parentElement);
  let column = cell.cellIndex;
  for (;;) {
    row += step[0];
    column += step[1];
    const next = rows[row]?.cells[column];
    if (!next) return;
    const inside = next.querySelector("button, a");
    if (inside && next.colSpan === 1) return inside.focus();
  }
});

// A chat script: the map of threads, keys within a line, and the trial kept while one writes ---------------------
const SVG = "http://www.w3.org/2000/svg";
function drawThreads() {
  const play = document.querySelector(".play");
  const map = play?.querySelector(".thread-map");
  if (!map || !map.checkVisibility()) return;
  const top = play.getBoundingClientRect().top;
  const lines = new Map();
  const away = new Set();
  let last = 18;
  for (const line of play.querySelectorAll(".play-line")) {
    if (line.hidden) away.add(Number(line.dataset.number));
    else last = line.getBoundingClientRect().top - top + 18;
    lines.set(Number(line.dataset.number), last); // a thread to what is put away ends where it is put away
  }
  map.replaceChildren();
  const add = (kind, attributes) => {
    const part = document.createElementNS(SVG, kind);
    for (const [name, value] of Object.entries(attributes)) part.setAttribute(name, value);
    map.append(part);
  };
  const spine = 62;
  const all = [...lines.values()];
  if (all.length > 1) add("path", { class: "spine", d: `M${spine} ${all[0]}V${all.at(-1)}` });
  const threads = JSON.parse(play.dataset.threads).sort((one, other) => Math.abs(one[0] - one[1]) - Math.abs(other[0] - other[1]));
  const taken = [];
  for (const [from, to, kind] of threads) {
    if (lines.get(from) === lines.get(to)) continue;
    const [low, high] = from < to ? [from, to] : [to, from];
    let lane = 0;
    while (taken.some((other) => other.lane === lane && other.low <= high && low <= other.high)) lane += 1;
    taken.push({ lane, low, high });
    const x = Math.max(4, spine - 13 - lane * 9);
    const [a, b] = [lines.get(from), lines.get(to)];
    const bend = Math.min(16, Math.abs(b - a) / 2) * Math.sign(b - a);
    add("path", { class: kind, d: `M${spine - 4} ${a}C${x} ${a} ${x} ${a} ${x} ${a + bend}V${b - bend}C${x} ${b} ${x} ${b} ${spine - 4} ${b}` });
  }
  const here = Number(document.querySelector("[data-trial]")?.dataset.line || 0);
  for (const [number, y] of lines) {
    if (!away.has(number)) add("circle", { cx: spine, cy: y, r: 3.6, class: number === here ? "here" : "" });
    document.querySelector(`.play-line[data-number="${number}"]`).classList.toggle("in-play", number === here);
  }
}
document.addEventListener("DOMContentLoaded", () => {
  const play = document.querySelector(".play");
  if (!play) return;
  play.querySelectorAll("[data-fold]").forEach((button) => { button.hidden = false; });
  showLines();
  new ResizeObserver(drawThreads).observe(play);
});
// What stands below a line can be put away; it stays so in this tab, and what a search finds is shown all the same.
const foldPlace = () => `folded:${location.pathname}`;
const folded = () => new Set(JSON.parse(sessionStorage.getItem(foldPlace()) || "[]"));
function showLines() {
  const put = folded();
  const words = document.querySelector("[data-find-line]")?.value.trim().toLowerCase() || "";
  let within = Infinity;
  document.querySelectorAll(".play-line").forEach((line) => {
    const depth = Number(line.dataset.depth);
    if (depth <= within) within = Infinity;
    line.hidden = words ? !line.innerText.toLowerCase().includes(words) : within < Infinity && !line.matches("[data-open]");
    const closed = put.has(line.id);
    line.querySelector("[data-fold]")?.setAttribute("aria-expanded", String(!closed));
    if (closed && within === Infinity) within = depth;
  });
  drawThreads();
}
function fold(line) {
  const put = folded();
  if (!put.delete(line.id)) put.add(line.id);
  sessionStorage.setItem(foldPlace(), JSON.stringify([...put]));
  showLines();
}
// Of the line in focus; where nothing stands below it, of the one that it stands under.
function foldHere() {
  let line = document.activeElement?.closest(".play-line");
  const depth = line && Number(line.dataset.depth);
  while (line && !(line.querySelector("[data-fold]") && (Number(line.dataset.depth) < depth || line.contains(document.activeElement)))) line = line.previousElementSibling;
  if (!line) return;
  fold(line);
  line.querySelector(".no").focus();
}
// To the line that a thread leads to, or, against it, to one that leads here; the next time from the same line, to the next of them.
const threadsTaken = new Map();
function alongThread(against) {
  const line = document.activeElement?.closest(".play-line") || document.querySelector(".play-line[data-open], .play-line");
  if (!line) return;
  const here = Number(line.dataset.number);
  const threads = JSON.parse(line.closest(".play").dataset.threads);
  const ends = [...new Set(threads.filter((one) => one[against ? 1 : 0] === here).map((one) => one[against ? 0 : 1]))];
  const steps = ends.length ? ends : [here + (against ? -1 : 1)];
  const times = threadsTaken.get(`${here} ${against}`) || 0;
  const wanted = document.querySelector(`.play-line[data-number="${steps[times % steps.length]}"]`);
  if (!wanted) return;
  threadsTaken.set(`${here} ${against}`, times + 1);
  for (let above = wanted; wanted.hidden && above; above = above.previousElementSibling) if (folded().has(above.id)) fold(above);
  wanted.querySelector(".no").focus();
}
document.addEventListener("click", (event) => {
  const button = event.target.closest("[data-fold]");
  if (button) fold(button.closest(".play-line"));
});
const LINE_KEYS = { ArrowUp: "up", ArrowDown: "down", ArrowRight: "in", ArrowLeft: "out" };
document.addEventListener("keydown", (event) => {
  const form = event.target.closest?.("[data-line-form]");
  if (!form) return;
  if (event.altKey && event.key.toLowerCase() === "t") {
    event.preventDefault();
    alongThread(event.shiftKey);
    return;
  }
  const wanted = event.ctrlKey && event.key === "Enter" ? "below" : event.altKey ? LINE_KEYS[event.key] : null;
  if (wanted) {
    event.preventDefault();
    form.querySelector(`[data-line-key="${wanted}"]`)?.click();
  } else if (event.altKey && event.key.toLowerCase() === "q") {
    event.preventDefault();
    form.querySelector("[name=kind]").value = "ask";
    form.requestSubmit();
  }
});
document.addEventListener("change", (event) => {
  if (event.target.matches?.("[data-send-as]")) event.target.form.requestSubmit();
});
document.addEventListener("input", (event) => {
  if (event.target.matches?.("[data-find-line]")) showLines();
});
// What was tried stays beside the text while lines are opened and saved.
const trialPlace = (form) => `trial:${form.dataset.trial}`;
document.addEventListener("htmx:after:swap", () => {
  const form = document.querySelector("[data-trial]");
  if (!form) return;
  const kept = [...new FormData(form)].filter(([name]) => ["said", "who", "channel", "language", "at", "values", "person"].includes(name));
  sessionStorage.setItem(trialPlace(form), JSON.stringify(kept));
  const talk = form.querySelector(".trial-talk");
  talk.scrollTop = talk.scrollHeight;
  if (form.contains(document.activeElement) || document.activeElement === document.body) form.querySelector("#trial-reply")?.focus();
  drawThreads();
});
window.addEventListener("load", () => {
  const form = document.querySelector("[data-trial]");
  const kept = form && JSON.parse(sessionStorage.getItem(trialPlace(form)) || "null");
  if (!kept || !kept.some(([name, value]) => name === "said" || (value && name !== "channel"))) return;
  if (form.querySelector("[name=said]")) return;
  for (const [name, value] of kept) {
    const input = name === "said" ? null : form.querySelector(`[name=${name}]`);
    if (input) input.value = value;
    else form.insertAdjacentElement("afterbegin", Object.assign(document.createElement("input"), { type: "hidden", name, value }));
  }
  form.dispatchEvent(new CustomEvent("restored"));
});
