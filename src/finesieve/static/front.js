// The public form: tell the server when a question was answered or left; the server decides the rest.
document.addEventListener("change", (event) => {
  const form = event.target.closest("[data-answers]");
  if (!form || event.target.name === "person" || event.target.closest("[hx-morph-skip]")) return;
  keep(form); // what fills in for a person may say "change" without "input"
  form.dispatchEvent(new CustomEvent("answered"));
});
document.addEventListener("focusout", (event) => {
  const question = event.target.closest("[data-question]");
  if (!question || question.contains(event.relatedTarget) || question.closest("[hx-morph-skip]")) return;
  const form = question.closest("[data-answers]");
  left(form).add(question.dataset.question);
  form.querySelector("#touched").value = [...left(form)].join(" ");
  form.dispatchEvent(new CustomEvent("answered"));
});

// The questions that were left, kept with the form: an answer that was under way does not know of the latest.
function left(form) {
  form.leftQuestions ??= new Set(form.querySelector("#touched").value.split(" ").filter(Boolean));
  return form.leftQuestions;
}

// What was typed is kept in this window until it was sent, so that going away and coming back loses nothing.
const place = () => `answers:${location.pathname.replace(/\/(thanks|confirm)$/, "")}`;
const kept = (form) => [...form.querySelectorAll("[name^='a_']")].filter((input) => !["file", "password", "hidden"].includes(input.type) && !input.closest("[hx-morph-skip]"));

function keep(form) {
  const answers = {};
  for (const input of kept(form)) {
    if (["radio", "checkbox"].includes(input.type)) {
      answers[input.name] = answers[input.name] || [];
      if (input.checked) answers[input.name].push(input.value);
    } else answers[input.name] = [input.value];
  }
  const before = JSON.parse(sessionStorage.getItem(place()) || "{}");
  sessionStorage.setItem(place(), JSON.stringify({ ...before, ...answers }));
}

function bringBack(form) {
  const answers = JSON.parse(sessionStorage.getItem(place()) || "null");
  if (!answers) return;
  let changed = false;
  for (const input of kept(form)) {
    const values = answers[input.name];
    if (!values) continue;
    if (["radio", "checkbox"].includes(input.type)) {
      if (input.checked !== values.includes(input.value)) { input.checked = values.includes(input.value); changed = true; }
    } else if (values.length && input.value !== values[0] && !input.value) { input.value = values[0]; changed = true; }
  }
  if (changed) form.dispatchEvent(new CustomEvent("answered"));
}

let searching;
document.addEventListener("input", (event) => {
  const form = event.target.closest("[data-answers]");
  if (!form) return;
  keep(form);
  if (event.target.matches("[data-find-record]")) {
    clearTimeout(searching);
    searching = setTimeout(() => form.dispatchEvent(new CustomEvent("answered")), 250);
  }
});
// Enter in a search looks, and does not send the form.
document.addEventListener("keydown", (event) => {
  if (event.key !== "Enter" || !event.target.matches("[data-find-record]")) return;
  event.preventDefault();
  event.target.closest("[data-answers]").dispatchEvent(new CustomEvent("answered"));
});
document.addEventListener("DOMContentLoaded", () => {
  const form = document.querySelector("[data-answers]");
  if (document.querySelector("[data-forget]")) sessionStorage.removeItem(place());
  if (!form) return;
  if (document.querySelector(".summary")) keep(form);
  else bringBack(form);
});
document.addEventListener("htmx:after:swap", () => {
  const form = document.querySelector("[data-answers]");
  if (!form) return;
  const touched = form.querySelector("#touched");
  const known = new Set(touched.value.split(" "));
  if ([...left(form)].some((name) => !known.has(name))) {
    touched.value = [...left(form)].join(" ");
    form.dispatchEvent(new CustomEvent("answered"));
  }
  bringBack(form);
});
// Within a page of another site: tell it how high the form is, and nothing else.
document.addEventListener("DOMContentLoaded", () => {
  if (!document.body.matches("[data-embedded]") || window.parent === window) return;
  const tell = () => window.parent.postMessage({ "fine-sieve-height": Math.ceil(document.querySelector("main").getBoundingClientRect().bottom + 24) }, "*");
  new ResizeObserver(tell).observe(document.querySelector("main"));
  tell();
});
// A conversation: what was sent is cleared, what is new is brought into view, and a chosen day is written out.
document.addEventListener("change", (event) => {
  if (!event.target.matches("[data-day]") || !event.target.value) return;
  const box = event.target.closest("form").querySelector("#text");
  box.value = event.target.value;
  box.focus();
});
document.addEventListener("htmx:after:swap", (event) => {
  const exchange = document.querySelector("#exchange");
  if (!exchange || event.detail?.ctx?.response?.status >= 400) return;
  exchange.lastElementChild?.scrollIntoView({ block: "nearest" });
  const box = document.querySelector("#reply #text");
  if (box) { box.value = ""; box.focus({ preventScroll: true }); }
  document.querySelector("#reply")?.scrollIntoView({ block: "nearest" });
});
// A reply that was refused, or met nobody: the words stay, and the page says so. Sent again, it counts once.
for (const failing of ["htmx:response:error", "htmx:error"]) {
  document.addEventListener(failing, (event) => {
    const form = event.target.closest?.("[data-reply]");
    form?.querySelector("[data-lost]").removeAttribute("hidden");
  });
}
// A colour can be picked as well as written; without scripts there is the box alone.
const showPickers = (root) => root.querySelectorAll?.("[data-picks]").forEach((picker) => { picker.hidden = false; });
document.addEventListener("DOMContentLoaded", () => showPickers(document));
document.addEventListener("htmx:after:swap", () => showPickers(document));
document.addEventListener("input", (event) => {
  if (!event.target.dataset?.picks) return;
  const box = document.getElementById(event.target.dataset.picks);
  box.value = event.target.value;
  box.dispatchEvent(new Event("input", { bubbles: true }));
});
document.addEventListener("change", (event) => {
  if (event.target.dataset?.picks) document.getElementById(event.target.dataset.picks).dispatchEvent(new Event("change", { bubbles: true }));
});
