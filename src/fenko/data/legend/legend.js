"use strict";
// Draws what the desk tells. Text is measured, broken and made smaller until it fits; what cannot be read then stands beneath.

const LARGEST = 22, LEAST = 9, SMALL = 0.78, LEADING = 1.15, NARROW = 480, LARGEST_SCALE = 4.5;
const query = new URLSearchParams(location.search);
const root = document.documentElement;
for (const name of ["background", "theme"]) if (query.has(name)) root.dataset[name] = query.get(name);
const wanted = query.getAll("surface");
const pen = document.createElement("canvas").getContext("2d");
const family = "system-ui, sans-serif";
const widths = new Map();
let told = null, asList = null;

function width(text, bold) {
  const key = (bold ? "*" : " ") + text;
  let found = widths.get(key);
  if (found === undefined) {
    if (widths.size > 5000) widths.clear();
    pen.font = `${bold ? "bold " : ""}100px ${family}`;
    found = pen.measureText(text).width / 100;
    widths.set(key, found);
  }
  return found;
}

// A line may end after a blank, hyphen, plus or stroke, and between characters of scripts without blanks.
const PIECE = /[\p{Script=Han}\p{Script=Hiragana}\p{Script=Katakana}]|[^\s+\/\-\p{Script=Han}\p{Script=Hiragana}\p{Script=Katakana}]*[+\/\-]*\s*/gu;

function broken(text, bold, room) {
  const lines = [];
  let now = "";
  for (const piece of text.match(PIECE) || []) {
    if (!piece) continue;
    if (width((now + piece).trimEnd(), bold) <= room) { now += piece; continue; }
    if (now.trim()) lines.push(now.trim());
    now = piece.trimStart();
    if (width(now.trimEnd(), bold) > room) return null;
  }
  if (now.trim()) lines.push(now.trim());
  return lines;
}

function set(title, more, wide, high, size) {
  const lines = [];
  let tall = 0;
  for (const [text, bold] of [[title, true], ...more.map((line) => [line, false])]) {
    if (!text) continue;
    const own = bold ? size : size * SMALL;
    const found = broken(text, bold, wide / own);
    if (!found) return null;
    for (const line of found) { lines.push([line, bold]); tall += own * LEADING; }
  }
  return tall <= high ? lines : null;
}

function fitting(title, more, wide, high) {
  for (let size = LARGEST; size >= LEAST; size *= 0.92) {
    const lines = set(title, more, wide, high, size);
    if (lines) return {size, lines};
  }
  const lines = set(title, more, wide, high, LEAST);
  return lines && {size: LEAST, lines};
}

function element(name, className, text) {
  const made = document.createElement(name);
  if (className) made.className = className;
  if (text !== undefined) made.textContent = text;
  return made;
}

function icon(control, size) {
  const made = element("span", "icon");
  made.setAttribute("aria-hidden", "true");
  if (control.outline) {
    const svg = document.createElementNS("http://www.w3.org/2000/svg", "svg");
    svg.setAttribute("viewBox", "0 0 24 24");
    const path = document.createElementNS("http://www.w3.org/2000/svg", "path");
    path.setAttribute("d", control.outline);
    svg.append(path);
    made.append(svg);
  } else made.textContent = control.icon;
  if (size) made.style.fontSize = `${size}px`;
  return made;
}

function colours(item, control) {
  if (control.colour) {
    item.style.setProperty("--line", control.colour);
    item.style.setProperty("--fill", `color-mix(in srgb, ${control.colour} var(--share), var(--page))`);
  } else if (control.bound) {
    item.style.setProperty("--line", `var(--${control.sort}-edge)`);
    item.style.setProperty("--fill", `var(--${control.sort})`);
  }
}

function listed(surface) {
  const list = element("ul", "list");
  for (const control of surface.controls) {
    const item = element("li", control.bound ? "" : "unbound");
    colours(item, control);
    item.append(element("span", "name", control.control), element("b", "", control.title));
    for (const line of control.more) item.append(element("span", "more", line));
    item.dataset.control = control.control;
    list.append(item);
  }
  return list;
}

function planned(surface, wide, notes) {
  const [bodyWide, bodyHigh] = surface.body;
  const high = Math.min(wide * bodyHigh / bodyWide, Math.max(240, innerHeight * 0.8), bodyHigh * LARGEST_SCALE);
  const scale = high / bodyHigh;
  const list = element("ul", "plan");
  list.style.width = `${bodyWide * scale}px`;
  list.style.height = `${high}px`;
  for (const control of surface.controls) {
    const [left, top, right, bottom] = control.box.map((value) => value * scale);
    const round = control.form === "round";
    const item = element("li", [round ? "round" : "", control.bound ? control.sort : "unbound"].join(" ").trim());
    Object.assign(item.style, {left: `${left}px`, top: `${top}px`, width: `${right - left}px`, height: `${bottom - top}px`});
    colours(item, control);
    const inset = round ? 0.74 : 1, rim = round ? 4 : 8;
    let roomWide = (right - left) * inset - rim, roomHigh = (bottom - top) * inset - rim;
    if (control.under !== null) roomHigh = Math.max(0, control.under * scale - top - 8), item.style.justifyContent = "flex-start", item.style.paddingTop = "4px";
    fill(item, control, roomWide, roomHigh, notes);
    item.dataset.control = control.control;
    list.append(item);
  }
  return list;
}

function fill(item, control, wide, high, notes) {
  // What a screen reader says stands there once and whole; what is seen is only seen.
  item.append(element("span", "name", [control.control, control.title, ...control.more].filter(Boolean).join(", ")));
  const seen = element("span", "seen");
  seen.setAttribute("aria-hidden", "true");
  item.append(seen);
  const title = control.title || control.control;
  if (!control.bound) {
    const found = fitting(title, [], wide, high);
    if (found) write(seen, found);
    return;
  }
  if (control.icon) {
    const side = Math.min(high * 0.4, wide * 0.7, 40);
    const found = fitting(title, control.more, wide, high - side);
    if (found) { seen.append(icon(control, side / 1.5)); write(seen, found); return; }
  }
  const whole = fitting(title, control.more, wide, high);
  if (whole) { write(seen, whole); return; }
  const mark = `#${notes.length + 1}`;
  const titled = control.more.length ? fitting(title, [mark], wide, high) : null;
  notes.push(`${mark} ${[...(titled ? [] : [title]), ...control.more].join(", ")}`);
  write(seen, titled || {size: Math.max(7, Math.min(LEAST, high * 0.8)), lines: [[mark, true]]});
}

function write(seen, {size, lines}) {
  seen.style.fontSize = `${size}px`;
  for (const [text, bold] of lines) seen.append(element(bold ? "b" : "span", bold ? "" : "more", text));
}

function section(surface) {
  const made = element("section");
  const name = element("h2", "", surface.name);
  name.id = `surface-${surface.name}`;
  made.setAttribute("aria-labelledby", name.id);
  made.append(name);
  return made;
}

// What is drawn stays as long as it says the same: a control that is pressed only lights up.
let drawn = "";
function draw() {
  if (!told) return;
  const nobody = document.getElementById("nobody");
  nobody.hidden = !told.nobody;
  nobody.textContent = told.nobody || "";
  const surfaces = told.surfaces.filter((one) => !wanted.length || wanted.includes(one.name));
  const list = asList === null ? innerWidth < NARROW : asList;
  const way = document.getElementById("way");
  way.setAttribute("aria-pressed", String(list));
  const heading = [told.profile, ...told.layers.map((name) => `layer ${name}`)].filter(Boolean).join(", ");
  const head = document.getElementById("profile");
  if (head.textContent !== heading) head.textContent = heading || "Legend";
  document.getElementById("why").textContent = told.paused ? "paused: other programs have the surfaces" : told.why;
  const now = JSON.stringify([surfaces.map(({pressed, ...rest}) => rest), list, innerWidth, innerHeight]);
  const main = document.getElementById("surfaces");
  if (now !== drawn) {
    drawn = now;
    const made = surfaces.map((surface) => [surface, section(surface)]);
    main.replaceChildren(...made.map(([, one]) => one));
    const wide = made.length ? made[0][1].clientWidth : 0;
    for (const [surface, one] of made) {
      const notes = [];
      one.append(list ? listed(surface) : planned(surface, wide, notes));
      const more = [...notes, ...surface.together];
      if (more.length) {
        const beneath = element("ul", "notes");
        more.forEach((text, number) => {
          const item = element("li", "", text);
          if (number < notes.length) item.setAttribute("aria-hidden", "true");
          beneath.append(item);
        });
        one.append(beneath);
      }
    }
  }
  surfaces.forEach((surface, number) => {
    for (const item of main.children[number].querySelectorAll("[data-control]"))
      item.classList.toggle("lit", surface.pressed.includes(item.dataset.control));
  });
  root.dataset.version = told.number;
}

document.getElementById("way").addEventListener("click", () => {
  asList = !(asList === null ? innerWidth < NARROW : asList);
  draw();
});
addEventListener("resize", draw);

const source = new EventSource("events");
source.onmessage = (event) => { told = JSON.parse(event.data); draw(); };
source.onerror = () => {
  told = {profile: "", layers: [], why: "", paused: false, surfaces: [], number: "", nobody: "Fenko does not answer; it is shown again when it does."};
  draw();
};
