// The little that pages do by themselves: palette, shortcuts, copy buttons, tables by keyboard, chart read-outs.

const $ = (selector, root = document) => root.querySelector(selector);
const $$ = (selector, root = document) => [...root.querySelectorAll(selector)];
const typing = (target) => target.closest("input, textarea, select, [contenteditable]");

// Palette (Ctrl or Cmd and K) and the list of shortcuts (?)
function openPalette() {
  const dialog = $("#palette");
  if (!dialog || dialog.open) return;
  dialog.showModal();
  const input = $("input", dialog);
  input.value = "";
  input.focus();
  htmx.trigger(input, "palette");
}

function movePalette(step) {
  const items = $$("#palette li");
  if (!items.length) return;
  const at = items.findIndex((item) => item.getAttribute("aria-selected") === "true");
  const next = items[(at + step + items.length) % items.length];
  items.forEach((item) => item.setAttribute("aria-selected", String(item === next)));
  next.scrollIntoView({ block: "nearest" });
}

document.addEventListener("keydown", (event) => {
  const mod = event.ctrlKey || event.metaKey;
  if (mod && event.key.toLowerCase() === "k") {
    event.preventDefault();
    openPalette();
  } else if (mod && event.key === "Enter") {
    const form = event.target.closest("form");
    if (form) {
      event.preventDefault();
      form.requestSubmit();
    }
  } else if (event.target.closest("#palette")) {
    if (event.key === "Escape") {
      event.preventDefault(); // else the first press only empties the field
      $("#palette").close();
    } else if (event.key === "ArrowDown" || event.key === "ArrowUp") {
      event.preventDefault();
      movePalette(event.key === "ArrowDown" ? 1 : -1);
    } else if (event.key === "Enter") {
      event.preventDefault();
      const chosen = $('#palette li[aria-selected="true"] a') || $("#palette li a");
      if (chosen) location.href = chosen.href;
    }
  } else if (event.key === "?" && !typing(event.target)) {
    $("#shortcuts")?.showModal();
  } else if ((event.key === "ArrowDown" || event.key === "ArrowUp") && event.target.matches("tr[data-href]")) {
    const rows = $$("tr[data-href]", event.target.closest("table"));
    const next = rows[rows.indexOf(event.target) + (event.key === "ArrowDown" ? 1 : -1)];
    if (next) {
      event.preventDefault();
      next.focus();
    }
  } else if (event.key === "Enter" && event.target.matches("tr[data-href]")) {
    location.href = event.target.dataset.href;
  }
});

document.addEventListener("click", (event) => {
  if (event.target.closest("[data-open-palette]")) openPalette();
  const closer = event.target.closest("[data-close]");
  if (closer) closer.closest("dialog").close();
  if (event.target.matches("dialog")) event.target.close();
  const copy = event.target.closest("[data-copy]");
  if (copy) {
    const text = $(copy.dataset.copy).textContent;
    const said = copy.textContent;
    const done = () => {
      copy.textContent = "copied";
      setTimeout(() => (copy.textContent = said), 1500);
    };
    if (navigator.clipboard) navigator.clipboard.writeText(text).then(done);
  }
  const row = event.target.closest("tr[data-href]");
  if (row && !event.target.closest("a, button, input, form")) location.href = row.dataset.href;
});

document.addEventListener("submit", (event) => {
  const question = event.target.dataset.confirm;
  if (question && !window.confirm(question)) event.preventDefault();
});

document.addEventListener("change", (event) => {
  if (event.target.matches("[data-submit-on-change]")) event.target.form.requestSubmit();
  if (event.target.matches("input[type=file][data-into]")) {
    const file = event.target.files[0];
    if (file) file.text().then((text) => ($(event.target.dataset.into).value = text));
  }
});

// Charts: the values at a point of time, by pointer or by arrow keys.
function readOut(chart, place) {
  const points = JSON.parse(chart.dataset.points);
  const at = Math.max(0, Math.min(points.length - 1, place));
  const point = points[at];
  chart.dataset.at = at;
  const cursor = $(".cursor", chart);
  cursor.setAttribute("x1", point.x);
  cursor.setAttribute("x2", point.x);
  cursor.style.visibility = "visible";
  const out = document.getElementById(chart.dataset.readout);
  if (out) out.textContent = point.text;
}

document.addEventListener("pointermove", (event) => {
  const chart = event.target.closest?.("svg[data-points]");
  if (!chart) return;
  const box = chart.getBoundingClientRect();
  const x = ((event.clientX - box.left) / box.width) * chart.viewBox.baseVal.width;
  const points = JSON.parse(chart.dataset.points);
  let best = 0;
  points.forEach((point, place) => {
    if (Math.abs(point.x - x) < Math.abs(points[best].x - x)) best = place;
  });
  readOut(chart, best);
});

document.addEventListener("keydown", (event) => {
  const chart = event.target.closest?.("svg[data-points]");
  if (!chart || !["ArrowLeft", "ArrowRight", "Enter"].includes(event.key)) return;
  event.preventDefault();
  const at = Number(chart.dataset.at ?? 0);
  if (event.key === "Enter") followPoint(chart);
  else readOut(chart, at + (event.key === "ArrowRight" ? 1 : -1));
});

// A stretch of a chart is chosen by dragging over it; where that leads, the page says with ~first~ and ~last~ in place.
let drag = null;

function nearest(chart, event) {
  const box = chart.getBoundingClientRect();
  const x = ((event.clientX - box.left) / box.width) * chart.viewBox.baseVal.width;
  const points = JSON.parse(chart.dataset.points);
  return points.reduce((best, point, at) => (Math.abs(point.x - x) < Math.abs(points[best].x - x) ? at : best), 0);
}

document.addEventListener("pointerdown", (event) => {
  const chart = event.target.closest?.("[data-drag] svg[data-points]");
  if (chart && event.button === 0) drag = { chart, from: nearest(chart, event), to: null };
});

document.addEventListener("pointermove", (event) => {
  if (!drag) return;
  drag.to = nearest(drag.chart, event);
  const points = JSON.parse(drag.chart.dataset.points);
  const [first, last] = [points[Math.min(drag.from, drag.to)], points[Math.max(drag.from, drag.to)]];
  const chosen = $(".chosen", drag.chart);
  chosen.setAttribute("x", first.x);
  chosen.setAttribute("width", last.x - first.x);
});

document.addEventListener("pointerup", () => {
  if (!drag) return;
  const { chart, from, to } = drag;
  drag = null;
  if (to === null || to === from) return;
  const points = JSON.parse(chart.dataset.points);
  const [first, last] = [points[Math.min(from, to)], points[Math.max(from, to)]];
  chart.dataset.dragged = "yes";
  const target = chart.closest("[data-drag]").dataset.drag;
  location.href = target.replace("~first~", first.t).replace("~last~", last.t);
});

function followPoint(chart) {
  if (chart.dataset.dragged) return;
  const point = JSON.parse(chart.dataset.points)[Number(chart.dataset.at ?? 0)];
  if (point?.href) location.href = point.href;
}

document.addEventListener("click", (event) => {
  const chart = event.target.closest?.("svg[data-points]");
  if (chart) followPoint(chart);
});

// Numbers that can be dragged: a slider beside its field, and parts of a form that belong to one choice.
document.addEventListener("input", (event) => {
  const slider = event.target.closest?.("input[type=range][data-for]");
  const field = slider ? document.getElementById(slider.dataset.for) : event.target;
  if (slider) {
    field.value = slider.value;
    field.dispatchEvent(new Event("input", { bubbles: true }));
  } else if (field.id) {
    const own = $(`input[type=range][data-for="${field.id}"]`);
    if (own) own.value = field.value;
  }
});

function showParts(form) {
  for (const part of $$("[data-shown-for]", form)) {
    const names = part.dataset.shownFor;
    if (!names) continue;
    const chosen = form.elements[part.dataset.shownBy || part.closest("[data-follows]")?.dataset.follows];
    if (chosen) part.hidden = !names.split(",").includes(chosen.type === "checkbox" && !chosen.checked ? "" : chosen.value);
  }
}
document.addEventListener("DOMContentLoaded", () => $$("form:has([data-shown-for])").forEach(showParts));
document.addEventListener("change", (event) => {
  const form = event.target.closest("form:has([data-shown-for])");
  if (form) showParts(form);
});

document.addEventListener("htmx:afterSwap", (event) => $$("form:has([data-shown-for])", event.target.parentElement || document).forEach(showParts));

// Whether a policy replaces one further out is asked as the last check says; an answer stays while its question does.
document.addEventListener("htmx:afterSwap", () => {
  const outer = document.getElementById("policy-outer")?.getAttribute("value");
  const asks = document.getElementById("policy-asks");
  if (!asks || outer === undefined) return;
  asks.hidden = asks.disabled = !outer;
  const asked = asks.querySelector("legend span");
  if (!outer || asked.textContent === outer) return;
  if (asked.textContent) $$("input", asks).forEach((answer) => { answer.checked = false; });
  asked.textContent = outer;
});

// A name that exists, written into its field: as a line of its own, or in place of what is there.
document.addEventListener("click", (event) => {
  const button = event.target.closest?.("[data-writes]");
  if (!button) return;
  const field = document.getElementById(button.dataset.writes);
  const name = button.textContent;
  const lines = field.value.split("\n").map((line) => line.trim()).filter(Boolean);
  if (!button.dataset.adds) field.value = name;
  else if (!lines.includes(name)) field.value = [...lines, name].join("\n");
  field.dispatchEvent(new Event("input", { bubbles: true }));
});

// A picker of rates writes its rows into the text beside it; the text writes them back by way of the server.
document.addEventListener("change", (event) => {
  const picker = event.target.closest?.("[data-rates]");
  if (!picker) return;
  const texts = [];
  for (const row of $$(".rate-row", picker)) {
    const said = Object.fromEntries($$("[data-rate]", row).map((one) => [one.dataset.rate, one]));
    said.burst.hidden = said.how.value !== "bucket";
    const count = said.count.value.trim();
    if (!count) continue;
    const suffix = { sliding: ", sliding", bucket: `, burst ${said.burst.value.trim() || count}` }[said.how.value] || "";
    texts.push(`${count} per ${said.per.value}${suffix}`);
  }
  const field = document.getElementById(picker.dataset.rates);
  field.value = texts.join("\n");
  field.dispatchEvent(new Event("change", { bubbles: true }));
});

// Rows that are put in another order, by dragging or with Alt and the arrow keys; the server is told the order.
function reordered(table) {
  const form = document.getElementById(table.dataset.reorders);
  form.elements.places.value = $$("tr[data-place]", table).map((row) => row.dataset.place).join(",");
  form.requestSubmit();
}
document.addEventListener("dragstart", (event) => {
  const row = event.target.closest?.("[data-reorders] tr[data-place]");
  if (row) row.dataset.dragged = "";
});
document.addEventListener("dragover", (event) => {
  const over = event.target.closest?.("[data-reorders] tr[data-place]");
  const row = over && $("[data-dragged]", over.closest("table"));
  if (!row) return;
  event.preventDefault();
  const box = over.getBoundingClientRect();
  if (over !== row) over[event.clientY > box.top + box.height / 2 ? "after" : "before"](row);
});
document.addEventListener("dragend", (event) => {
  const row = event.target.closest?.("[data-dragged]");
  if (!row) return;
  delete row.dataset.dragged;
  reordered(row.closest("table"));
});
document.addEventListener("keydown", (event) => {
  const row = event.altKey && event.target.closest?.("[data-reorders] tr[data-place]");
  const other = row && { ArrowUp: row.previousElementSibling, ArrowDown: row.nextElementSibling }[event.key];
  if (!other) return;
  event.preventDefault();
  other[event.key === "ArrowUp" ? "before" : "after"](row);
  reordered(row.closest("table"));
});

// Policies of a cell are put in another order: dragged, or moved with Alt and the arrow keys.
function sorted(cell) {
  const form = document.getElementById(cell.dataset.sorts);
  form.elements.level.value = cell.dataset.level;
  form.elements.order.value = $$("a[data-policy]", cell).map((slip) => slip.dataset.policy).join(",");
  form.requestSubmit();
}
document.addEventListener("dragstart", (event) => {
  const slip = event.target.closest?.("[data-sorts] a[data-policy]");
  if (slip) slip.dataset.lifted = "";
});
document.addEventListener("dragover", (event) => {
  const over = event.target.closest?.("[data-sorts] a[data-policy]");
  const slip = over && $("a[data-lifted]", over.parentElement);
  if (!slip) return;
  event.preventDefault();
  const box = over.getBoundingClientRect();
  if (over !== slip) over[event.clientY > box.top + box.height / 2 ? "after" : "before"](slip);
});
document.addEventListener("dragend", (event) => {
  const slip = event.target.closest?.("a[data-lifted]");
  if (!slip) return;
  delete slip.dataset.lifted;
  sorted(slip.parentElement);
});
document.addEventListener("keydown", (event) => {
  const slip = event.altKey && event.target.closest?.("[data-sorts] a[data-policy]");
  const steps = { ArrowUp: "previousElementSibling", ArrowDown: "nextElementSibling" };
  const other = slip && slip[steps[event.key]];
  if (!other?.dataset?.policy) return;
  event.preventDefault();
  other[event.key === "ArrowUp" ? "before" : "after"](slip);
  sorted(slip.parentElement);
});

// Escape closes what lies over the page.
document.addEventListener("keydown", (event) => {
  if (event.key !== "Escape" || document.querySelector("dialog[open]")) return;
  $("[data-leaves]")?.click();
});

// A colour chosen by eye is written into its field.
document.addEventListener("input", (event) => {
  const dropper = event.target.closest?.("input[type=color][data-for]");
  if (dropper) document.getElementById(dropper.dataset.for).value = dropper.value;
});

// A key that is typed beside an example goes into it, here in the page and nowhere else.
document.addEventListener("input", (event) => {
  const field = event.target.closest?.("input[data-fills]");
  if (!field) return;
  for (const pre of $$("pre", $(field.dataset.fills))) {
    pre.dataset.blank ??= pre.textContent;
    pre.textContent = pre.dataset.blank.replaceAll(field.dataset.place, field.value || field.dataset.place);
  }
});

// Times: said in the reader's zone, exactly, on hover.
function exactTimes(root) {
  for (const time of $$("time[datetime]:not([title])", root)) {
    time.title = new Date(time.dateTime).toLocaleString(undefined, { dateStyle: "full", timeStyle: "long" });
  }
}
document.addEventListener("DOMContentLoaded", () => exactTimes(document));
document.addEventListener("htmx:afterSwap", (event) => exactTimes(event.target));

// A menu that is folded away in narrow windows.
document.addEventListener("click", (event) => {
  const button = event.target.closest?.("[data-unfolds]");
  if (!button) return;
  const open = document.getElementById(button.dataset.unfolds).classList.toggle("open");
  button.setAttribute("aria-expanded", open);
});

// A conversation with a chat API: what was said is kept here, answers are read line by line as they come
function spoken(list, role, text) {
  const item = document.createElement("li");
  item.className = role;
  const words = document.createElement("p");
  words.textContent = text;
  item.append(words);
  list.append(item);
  item.scrollIntoView({ block: "nearest" });
  return words;
}

async function tellLines(answer, told) {
  const reader = answer.body.pipeThrough(new TextDecoderStream()).getReader();
  let held = "";
  for (;;) {
    const { value, done } = await reader.read();
    held += value || "";
    const lines = held.split("\n");
    held = lines.pop();
    lines.filter(Boolean).forEach((line) => told(JSON.parse(line)));
    if (done) return;
  }
}

function beginTalk(form) {
  const list = $("[data-said]", form);
  const message = $("[data-message]", form);
  const button = $("button.button", form);
  let said = [];
  $("[data-anew]", form).addEventListener("click", () => {
    said = [];
    list.replaceChildren();
    message.focus();
  });
  form.addEventListener("submit", async (event) => {
    event.preventDefault();
    const text = message.value.trim();
    if (!text || button.disabled) return;
    button.disabled = true;
    const system = $("[data-system]", form).value.trim();
    const messages = [...said, { role: "user", content: text }];
    const first = system ? [{ role: "system", content: system }] : [];
    form.elements.said.value = JSON.stringify({
      model: $("[data-model]", form).value.trim(),
      max_tokens: Number($("[data-most]", form).value) || 400,
      messages: [...first, ...messages],
    });
    spoken(list, "user", text);
    message.value = "";
    const words = spoken(list, "assistant", "");
    let problem = "";
    try {
      const answer = await fetch(form.action, { method: "POST", body: new FormData(form) });
      if (!answer.headers.get("content-type")?.includes("ndjson")) throw new Error(`answered ${answer.status}`);
      await tellLines(answer, (line) => {
        if (line.text) words.textContent += line.text;
        if (line.problem) problem = line.problem;
        $$("[data-took]", form).forEach((cell) => {
          if (cell.dataset.took in line) cell.textContent = line[cell.dataset.took];
        });
      });
    } catch (error) {
      problem = `The answer did not come: ${error.message}`;
    }
    if (problem) {
      words.parentElement.className = "refused";
      words.textContent = problem;
      message.value = text;
    } else {
      said = [...messages, { role: "assistant", content: words.textContent }];
    }
    button.disabled = false;
    message.focus();
  });
}

document.addEventListener("DOMContentLoaded", () => $$("form[data-talks]").forEach(beginTalk));

// Exploring a graph: Ctrl and Enter runs a document, those that were run are kept in this browser, and who asks decides
// which schema is shown.
const MOST_EARLIER = 12;

function earlierDocuments(key) {
  try {
    const kept = JSON.parse(localStorage.getItem(key) || "[]");
    return Array.isArray(kept) ? kept.filter((one) => typeof one === "string") : [];
  } catch {
    return [];
  }
}

function beginExploring(form) {
  const key = `explored ${form.dataset.explores}`;
  const text = $("[data-document]", form);
  const offered = $("[data-earlier]", form);
  const list = $("select", offered);
  const show = () => {
    const kept = earlierDocuments(key);
    offered.hidden = !kept.length;
    list.replaceChildren(new Option("…", ""), ...kept.map((one, place) => new Option(one.replace(/\s+/g, " ").slice(0, 60), place)));
  };
  list.addEventListener("change", () => {
    const chosen = earlierDocuments(key)[Number(list.value)];
    if (list.value === "" || chosen === undefined) return;
    text.value = chosen;
    text.dispatchEvent(new Event("input", { bubbles: true }));
    list.value = "";
  });
  form.addEventListener("submit", () => {
    const kept = [text.value, ...earlierDocuments(key).filter((one) => one !== text.value)].slice(0, MOST_EARLIER);
    localStorage.setItem(key, JSON.stringify(kept));
    show();
  });
  const caller = $("[data-reads]", form);
  caller?.addEventListener("change", () => {
    location.assign(`${caller.dataset.reads}?caller=${encodeURIComponent(caller.value)}`);
  });
  show();
}

document.addEventListener("DOMContentLoaded", () => $$("form[data-explores]").forEach(beginExploring));
