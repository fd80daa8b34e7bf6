// The public form: tell the server when a question was answered or left; the server decides the rest.
document.addEventListener("change", (event) => {
  const form = event.target.closest("[data-answers]");
  if (form) form.dispatchEvent(new CustomEvent("answered"));
});
document.addEventListener("focusout", (event) => {
  const question = event.target.closest("[data-question]");
  if (!question || question.contains(event.relatedTarget)) return;
  const form = question.closest("[data-answers]");
  const touched = form.querySelector("#touched");
  const names = new Set(touched.value.split(" ").filter(Boolean));
  names.add(question.dataset.question);
  touched.value = [...names].join(" ");
  form.dispatchEvent(new CustomEvent("answered"));
});
