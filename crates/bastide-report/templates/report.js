"use strict";
(function () {
  const data = JSON.parse(document.getElementById("data").textContent);
  const f = data.folded, heat = data.heat;
  const allowed = new Set(["granted", "assured"]);
  const PAGE = 100, PRINTED = 150;
  const byId = (id) => document.getElementById(id);
  const make = (tag, text, cls) => {
    const e = document.createElement(tag);
    if (text !== undefined) e.textContent = text;
    if (cls) e.className = cls;
    return e;
  };
  // Names from data never turn the direction of what stands around them.
  const bdi = (text) => make("bdi", text);

  // Who is in a set: the positions of a few, or a bit for each person, the lowest of a byte first.
  const sets = f.sets.map((s) => ({ label: s[0], size: s[1], who: s[2] }));
  const bits = (set) => {
    if (typeof set.who === "string") {
      const text = atob(set.who);
      set.who = new Uint8Array(text.length);
      for (let i = 0; i < text.length; i++) set.who[i] = text.charCodeAt(i);
    }
    return set.who;
  };
  const stands = (mask, person) => (mask[person >> 3] >> (person & 7)) & 1;
  const has = (set, person) => (Array.isArray(set.who) ? set.who.includes(person) : stands(bits(set), person));
  const meets = (set, mask) => {
    if (Array.isArray(set.who)) return set.who.some((person) => stands(mask, person));
    const own = bits(set);
    for (let i = 0; i < own.length; i++) if (own[i] & mask[i]) return true;
    return false;
  };
  const members = (set) => f.people.filter((_, i) => has(set, i));
  const shown = (p) => p.name || p.id;
  const actions = (line) => line.a.map((a) => f.actions[a]).join(", ");
  const whoText = (line) => (line.o ? (sets[line.s].size === 1 ? "the owner, " : "each owner: ") : "") + sets[line.s].label + (line.x ? ", each but the owner" : "");
  const onText = (line) => line.n + (line.n < line.m ? " of " + line.m : "") + " " + f.kinds[line.k] + (line.m === 1 ? "" : "s");
  const byText = (line) => line.by === undefined ? (line.r === "blocked" ? "a need that is not met" : "") : f.statements[line.by].name;
  const texts = f.lines.map((l) =>
    [whoText(l), actions(l), f.kinds[l.k], f.places[l.p].path, byText(l), l.r].join(" ").toLowerCase());
  const lower = f.people.map((p) => (p.name + " " + p.id).toLowerCase());

  const view = { sort: "where", down: false, found: [], shown: 0 };
  const keys = {
    who: (l) => [sets[l.s].size, whoText(l)],
    may: (l) => [l.a.length ? -l.a[l.a.length - 1] : 0, actions(l)],
    on: (l) => [l.n, ""],
    where: (l, i) => [i, ""],
    by: (l) => [0, byText(l)],
  };
  const order = () => {
    const key = keys[view.sort];
    const list = view.found.map((i) => [key(f.lines[i], i), i]);
    list.sort((a, b) => a[0][0] - b[0][0] || (a[0][1] < b[0][1] ? -1 : a[0][1] > b[0][1] ? 1 : a[1] - b[1]));
    if (view.down) list.reverse();
    view.found = list.map((x) => x[1]);
  };

  const find = () => {
    const words = byId("q").value.toLowerCase().split(/\s+/).filter(Boolean);
    const asked = byId("person").value.trim().toLowerCase();
    const action = byId("action").value === "" ? -1 : Number(byId("action").value);
    const harmful = byId("harmful").checked, refused = byId("refused").checked;
    const matching = (text) => {
      const mask = new Uint8Array((f.people.length + 7) >> 3);
      lower.forEach((name, i) => { if (name.includes(text)) mask[i >> 3] |= 1 << (i & 7); });
      return mask;
    };
    const masks = words.map((w) => [w, matching(w)]);
    const exact = f.people.findIndex((p) => p.id.toLowerCase() === asked);
    const person = asked === "" ? null : exact >= 0
      ? (() => { const m = new Uint8Array((f.people.length + 7) >> 3); m[exact >> 3] |= 1 << (exact & 7); return m; })()
      : matching(asked);
    view.found = [];
    f.lines.forEach((line, i) => {
      if (!refused && !allowed.has(line.r)) return;
      if (action >= 0 && !line.a.includes(action)) return;
      if (harmful && !line.a.some((a) => !f.harmless[a])) return;
      const set = sets[line.s];
      if (person && !meets(set, person)) return;
      for (const [word, mask] of masks) if (!texts[i].includes(word) && !meets(set, mask)) return;
      view.found.push(i);
    });
    order();
    draw(PAGE);
  };

  const body = byId("lines").tBodies[0];
  const cell = (row, head, child, cls) => {
    const td = row.insertCell();
    td.dataset.head = head;
    if (cls) td.className = cls;
    td.append(child);
    return td;
  };
  const quoted = (text) => /^[\w.@:-]+$/.test(text) ? text : "'" + text.replace(/'/g, "'\\''") + "'";
  // What decides, for people who do not know its name.
  const words = {
    granted: "it is permitted, and nothing stands against it", assured: "it is permitted whatever stands against it",
    denied: "a restriction stands against it", capped: "a limit stands against it that no permission lifts",
    blocked: "it is permitted, but something that it needs is refused", silent: "nothing permits it",
    inactive: "the account is not active",
  };
  const detail = (i, row) => {
    const line = f.lines[i], set = sets[line.s], statement = line.by === undefined ? null : f.statements[line.by];
    const more = document.createElement("tr");
    more.className = "more";
    const td = more.insertCell();
    td.colSpan = 5;
    const why = make("p");
    why.append(allowed.has(line.r) ? "Allowed: " : "Refused: ");
    if (statement) {
      why.append(statement.sort + " ", make("code", statement.name), " says that " + statement.who + " ", make("b", statement.modality), " " + actions(line) + ": " + (words[line.r] || line.r) + ". ");
      why.append(make("span", statement.place, "dim"));
    } else {
      why.append((words[line.r] || line.r) + ".");
    }
    td.append(why);
    if (statement && statement.because) { const p = make("p"); p.append("It is there because: ", bdi(statement.because)); td.append(p); }
    const person = f.people[line.e[0]];
    const ask = make("p", "One of these decisions in full: ");
    ask.append(make("code", "bastide why " + quoted(person.id) + " " + f.actions[line.a[0]] + " " + quoted(line.e[1])));
    td.append(ask);
    const people = members(set);
    td.append(make("p", people.length === 1 ? "One person:" : people.length + " people:", "dim"));
    const list = make("ul", undefined, "people");
    people.forEach((p) => { const li = make("li"); li.append(bdi(shown(p)), " ", make("span", p.id + (p.kind === "person" ? "" : ", " + p.kind), "dim")); list.append(li); });
    td.append(list);
    row.after(more);
  };
  const draw = (upto) => {
    body.textContent = "";
    const most = Math.min(upto, view.found.length);
    for (let n = 0; n < most; n++) {
      const i = view.found[n], line = f.lines[i];
      const row = body.insertRow();
      if (!allowed.has(line.r)) row.className = "deny";
      const open = make("button", undefined, "open");
      open.type = "button";
      open.setAttribute("aria-expanded", "false");
      const label = make("span", undefined, "clamp");
      label.append(bdi(whoText(line)));
      if (sets[line.s].size > 1) label.append(" (" + sets[line.s].size + ")");
      open.append(label);
      open.addEventListener("click", () => {
        const is = open.getAttribute("aria-expanded") === "true";
        open.setAttribute("aria-expanded", String(!is));
        if (is) row.nextElementSibling.remove(); else detail(i, row);
      });
      cell(row, "", open);
      cell(row, allowed.has(line.r) ? "may" : "may not", (allowed.has(line.r) ? "" : "not ") + actions(line));
      cell(row, "on", onText(line));
      const place = make("span", undefined, "clamp");
      place.append(bdi(f.places[line.p].path));
      cell(row, "in", place);
      const by = make("span", undefined, "clamp");
      by.append(bdi(byText(line)));
      cell(row, "because of", by);
    }
    view.shown = most;
    const all = f.lines.filter((l) => byId("refused").checked || allowed.has(l.r)).length;
    byId("count").textContent = view.found.length === 0 ? "Nothing fits. " + all + " lines in all."
      : "Showing " + most + " of " + view.found.length + (view.found.length < all ? " fitting lines, of " + all + " in all." : " lines.");
    byId("more").hidden = most >= view.found.length;
  };

  f.actions.forEach((name, i) => { const o = make("option", name); o.value = i; byId("action").append(o); });
  f.people.forEach((p) => { const o = make("option", shown(p)); o.value = p.id; byId("people").append(o); });
  let later = 0;
  const soon = () => { clearTimeout(later); later = setTimeout(find, 120); };
  byId("q").addEventListener("input", soon);
  byId("person").addEventListener("input", soon);
  ["action", "harmful", "refused"].forEach((id) => byId(id).addEventListener("change", find));
  byId("filters").addEventListener("submit", (e) => { e.preventDefault(); find(); });
  byId("clear").addEventListener("click", () => {
    byId("filters").reset();
    find();
    byId("q").focus();
  });
  byId("more").addEventListener("click", () => draw(view.shown + PAGE));
  document.querySelectorAll("[data-sort]").forEach((button) => button.addEventListener("click", () => {
    const sort = button.dataset.sort;
    view.down = view.sort === sort ? !view.down : sort === "on" || sort === "who";
    view.sort = sort;
    document.querySelectorAll("#lines thead th").forEach((th) => th.setAttribute("aria-sort", "none"));
    button.parentElement.setAttribute("aria-sort", view.down ? "descending" : "ascending");
    order();
    draw(PAGE);
  }));

  // Another question on the same map.
  const fill = (q) => heat.rows.forEach((row, g) => heat.places.forEach((place, p) => {
    const td = byId("heat-table").tBodies[0].rows[p].cells[g + 1], v = row.shares[q][p];
    td.textContent = v === null ? "·" : v > 0 && v < 1 ? "<1" : v > 0 ? String(Math.round(v)) : "";
    if (v === null) { td.removeAttribute("class"); td.removeAttribute("title"); }
    else { td.className = "v" + Math.round(v); td.title = row.group + " · " + place.path + ": " + v.toFixed(1) + " %"; }
  }));
  const what = byId("heat-what");
  if (what) {
    what.addEventListener("change", () => fill(Number(what.value)));
    fill(0);
  }
  document.querySelectorAll("[data-place]").forEach((button) => button.addEventListener("click", () => {
    byId("filters").reset();
    byId("q").value = button.dataset.place;
    find();
    byId("access").scrollIntoView();
    byId("q").focus({ preventScroll: true });
  }));

  // A link to a finding opens it.
  const open = () => {
    const target = location.hash.startsWith("#finding-") ? byId(location.hash.slice(1)) : null;
    if (target) { target.open = true; target.scrollIntoView(); }
  };
  window.addEventListener("hashchange", open);
  open();

  // On paper nothing can be opened: what matters is, and the table is as long as paper allows.
  let opened = [];
  window.addEventListener("beforeprint", () => {
    opened = [...document.querySelectorAll("details:not([open]):not(.note)")];
    opened.forEach((d) => { d.open = true; });
    if (view.shown < PRINTED) draw(PRINTED);
  });
  window.addEventListener("afterprint", () => { opened.forEach((d) => { d.open = false; }); });

  byId("filters").hidden = false;
  byId("lines").hidden = false;
  find();
})();
