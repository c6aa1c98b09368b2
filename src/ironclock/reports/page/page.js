"use strict";
(() => {
  const data = JSON.parse(document.getElementById("data").textContent);
  const $ = (id) => document.getElementById(id);
  const { jobs, tries, texts, names, queues, workers, states, outcomes, depth } = data;
  const total = jobs.id.length, count = tries.job.length;
  const first = 0, last = Math.max(data.last, 1);
  const ofJob = new Map();            // each job's attempts
  for (let i = 0; i < count; i++) {
    const list = ofJob.get(tries.job[i]);
    if (list) list.push(i); else ofJob.set(tries.job[i], [i]);
  }
  const view = { from: first, to: last, top: 0, rows: "worker" };
  let shown = new Uint8Array(total).fill(1), order = [], chosen = -1, page = 0, rowOf = null, byRow = [];
  const SIZE = 100, AXIS = 22, LABEL = 150;
  const waited = depth.some((d) => d.top > 0), DEPTH = waited ? 64 : 0;   // without a wait, one line of text says so
  $("calm").hidden = waited;

  // --- words ---------------------------------------------------------------------------------------
  const clock = (ms) => {
    // Offsets change within a history at a clock change: the page is given each with the instant it begins at.
    let offset = data.offsets[0][1];
    for (const [from, value] of data.offsets) if (ms >= from) offset = value;
    return new Date(data.start + ms + offset).toISOString();
  };
  const span = (ms) => {
    if (ms < 1) return ms <= 0 ? "0s" : (ms * 1000).toPrecision(3) + "us";
    if (ms < 1000) return +ms.toPrecision(3) + "ms";
    const s = ms / 1000, d = Math.floor(s / 86400), h = Math.floor(s % 86400 / 3600), m = Math.floor(s % 3600 / 60), r = +(s % 60).toFixed(s < 60 ? 2 : 0);
    return (d ? d + "d" : "") + (h ? h + "h" : "") + (m ? m + "m" : "") + (r || s < 1 ? r + "s" : "") || "0s";
  };
  const time = (ms) => clock(ms).slice(11, view.to - view.from < 60000 ? 23 : 19);
  const full = (ms) => clock(ms).slice(0, 19).replace("T", " ");
  const text = (n) => n < 0 ? "" : texts[n];
  const ended = (i) => tries.end[i] < 0 ? last : tries.end[i];
  const about = (i) => {
    const j = tries.job[i];
    let words = `${jobs.id[j]}(${text(jobs.args[j])})\nattempt ${tries.number[i]} on ${workers[tries.worker[i]]}: ${outcomes[tries.outcome[i]]}\n` +
      `${full(tries.start[i])}, ${tries.end[i] < 0 ? "runs still" : "took " + span(tries.end[i] - tries.start[i])}`;
    if (tries.error[i] >= 0) words += "\n" + text(tries.error[i]);
    if (tries.wait[i] >= 0) words += "\ntries again in " + span(tries.wait[i]);
    return words;
  };

  // --- filters -------------------------------------------------------------------------------------
  const fill = (select, values) => values.forEach((value, n) => {
    const option = document.createElement("option");
    option.value = n; option.textContent = value; select.append(option);
  });
  fill($("type"), names); fill($("queue"), queues);
  states.forEach((state, n) => {
    const label = document.createElement("label"), box = document.createElement("input");
    box.type = "checkbox"; box.checked = true; box.value = n; box.dataset.state = state;
    label.append(box, " " + state + " ");
    $("states").append(label);
  });
  const filter = () => {
    const words = $("search").value.toLowerCase(), type = $("type").value, queue = $("queue").value;
    const on = new Set([...$("states").querySelectorAll("input:checked")].map((box) => +box.value));
    order = [];
    for (let j = 0; j < total; j++) {
      const good = on.has(jobs.state[j]) && (type === "" || jobs.name[j] === +type) && (queue === "" || jobs.queue[j] === +queue) &&
        (!words || jobs.id[j].toLowerCase().includes(words) || text(jobs.args[j]).toLowerCase().includes(words));
      shown[j] = good ? 1 : 0;
      if (good) order.push(j);
    }
    page = 0; lay(); table(); draw();
  };

  // --- the timeline --------------------------------------------------------------------------------
  const canvas = $("chart"), pen = canvas.getContext("2d");
  let width = 0, height = 0, body = 350, colours = {};
  const lay = () => {
    // Attempts by row, each in the order of their starts.
    byRow = [];
    if (view.rows === "worker") {
      rowOf = (i) => tries.worker[i];
      byRow = workers.map(() => []);
    } else {
      const place = new Map(order.map((j, n) => [j, n]));
      rowOf = (i) => place.get(tries.job[i]);
      byRow = order.map(() => []);
    }
    for (let i = 0; i < count; i++) if (shown[tries.job[i]]) byRow[rowOf(i)].push(i);
    for (const row of byRow) row.sort((a, b) => tries.start[a] - tries.start[b]);
    body = Math.max(48, Math.min(350, byRow.length * rowHeight() + 4));
    measure();
    view.top = Math.max(0, Math.min(view.top, byRow.length - fit()));
  };
  const rowHeight = () => view.rows === "worker" ? Math.max(10, Math.min(26, Math.floor(340 / Math.max(1, workers.length)))) : 16;
  const fit = () => Math.max(1, Math.floor((height - DEPTH - AXIS) / rowHeight()));
  const x = (ms) => LABEL + (ms - view.from) / (view.to - view.from) * (width - LABEL - 8);
  const at = (px) => view.from + (px - LABEL) / (width - LABEL - 8) * (view.to - view.from);
  const measure = () => {
    const style = getComputedStyle(document.documentElement);
    for (const name of ["ink", "soft", "line", "panel", "done", "failed", "timed-out", "crashed", "cancelled", "running", "wait", "held", "focus", "depth"])
      colours[name] = style.getPropertyValue("--" + name).trim();
    const scale = window.devicePixelRatio || 1;
    width = $("view").clientWidth; height = DEPTH + AXIS + body;
    canvas.width = width * scale; canvas.height = height * scale; canvas.style.height = height + "px";
    pen.setTransform(scale, 0, 0, scale, 0, 0);
  };
  const from = (row, ms) => {   // the first attempt of a row that may be seen from there on
    let low = 0, high = row.length;
    while (low < high) { const mid = low + high >> 1; if (tries.start[row[mid]] < ms) low = mid + 1; else high = mid; }
    return Math.max(0, low - 1);
  };
  const STEPS = [1, 10, 100, 1000, 5000, 15000, 60000, 300000, 900000, 3600000, 3 * 3600000, 6 * 3600000, 12 * 3600000, 86400000, 7 * 86400000, 30 * 86400000];
  const axis = () => {
    const room = (width - LABEL) / 110, step = STEPS.find((s) => (view.to - view.from) / s <= room) || STEPS[STEPS.length - 1] * 12;
    pen.fillStyle = colours.soft; pen.strokeStyle = colours.line; pen.textAlign = "left";
    let day = "";
    for (let t = Math.ceil(view.from / step) * step; t <= view.to; t += step) {
      const px = Math.round(x(t)) + .5, iso = clock(t);
      pen.beginPath(); pen.moveTo(px, DEPTH + 4); pen.lineTo(px, height); pen.stroke();
      let label = step >= 60000 ? iso.slice(11, 16) : step >= 1000 ? iso.slice(11, 19) : iso.slice(11, 23);
      if (iso.slice(0, 10) !== day) { day = iso.slice(0, 10); label = iso.slice(5, 10) + " " + label; }
      if (px + 3 + pen.measureText(label).width <= width) pen.fillText(label, px + 3, DEPTH + AXIS - 8);
    }
  };
  const depths = () => {
    if (!waited) return;
    const queue = $("queue").value;
    pen.fillStyle = colours.soft; pen.textAlign = "right";
    const lines = depth.filter((d, n) => queue === "" || n === +queue);
    const top = Math.max(1, ...lines.map((d) => d.top));
    pen.fillText("ready jobs", LABEL - 8, 14); pen.fillText("at most " + Math.max(0, ...lines.map((d) => d.top)).toLocaleString("en"), LABEL - 8, 28);
    pen.strokeStyle = colours.depth; pen.fillStyle = colours.depth;
    // The sum over the queues that are shown, the highest in each pixel column.
    const columns = new Float64Array(Math.max(1, Math.ceil(width - LABEL)));
    for (const line of lines) {
      let i = 0, low = 0, high = line.at.length;
      while (low < high) { const mid = low + high >> 1; if (line.at[mid] <= view.from) low = mid + 1; else high = mid; }
      i = Math.max(0, low - 1);
      const best = new Float64Array(columns.length);
      for (; i < line.at.length && line.at[i] < view.to; i++) {
        if (!line.count[i]) continue;
        const a = Math.max(0, Math.floor(x(line.at[i]) - LABEL)), b = Math.min(columns.length - 1, Math.floor(x(i + 1 < line.at.length ? line.at[i + 1] : line.at[i]) - LABEL));
        for (let c = a; c <= b; c++) if (line.count[i] > best[c]) best[c] = line.count[i];
      }
      for (let c = 0; c < columns.length; c++) columns[c] += best[c];
    }
    const most = Math.max(top, columns.reduce((a, b) => Math.max(a, b), 0));
    for (let c = 0; c < columns.length; c++) if (columns[c]) {
      const h = Math.max(1, columns[c] / most * (DEPTH - 10));
      pen.fillRect(LABEL + c, DEPTH - h, 1, h);
    }
    pen.strokeStyle = colours.line; pen.beginPath(); pen.moveTo(LABEL, DEPTH + .5); pen.lineTo(width, DEPTH + .5); pen.stroke();
  };
  const draw = () => {
    pen.fillStyle = colours.panel; pen.fillRect(0, 0, width, height);
    pen.font = "12px system-ui, 'DejaVu Sans', sans-serif"; pen.textBaseline = "alphabetic";
    depths(); axis();
    const tall = rowHeight(), rows = fit(), top = DEPTH + AXIS;
    for (let r = view.top; r < Math.min(byRow.length, view.top + rows); r++) {
      const y = top + (r - view.top) * tall, row = byRow[r];
      pen.fillStyle = colours.ink; pen.textAlign = "right";
      let label = view.rows === "worker" ? workers[r] : jobs.id[order[r]];
      if (label.length > 22) label = label.slice(0, 21) + "…";
      pen.fillText(label, LABEL - 8, y + tall - Math.max(3, (tall - 10) / 2));
      if (view.rows === "job") {
        const j = order[r], a = Math.max(LABEL, x(jobs.enqueued[j])), b = Math.min(width, x(row.length ? tries.start[row[0]] : jobs.due[j]));
        if (b > a) { pen.fillStyle = colours.held; pen.fillRect(a, y + tall / 2 - 1, b - a, 2); }
      }
      let edge = -1, last_ = "";
      for (let k = from(row, view.from); k < row.length && tries.start[row[k]] <= view.to; k++) {
        const i = row[k], a = Math.max(LABEL, x(tries.start[i])), b = Math.min(width, x(ended(i)));
        if (b < LABEL) continue;
        if (view.rows === "job" && tries.wait[i] >= 0) {
          const c = Math.min(width, x(ended(i) + tries.wait[i]));
          if (c > b) { pen.fillStyle = colours.wait; pen.fillRect(b, y + tall / 2 - 1, c - b, 2); }
        }
        const kind = outcomes[tries.outcome[i]];
        if (b <= edge && kind === last_ && i !== chosen) continue;   // nothing new to be seen in this pixel
        pen.fillStyle = colours[kind] || colours.running;
        pen.fillRect(a, y + 2, Math.max(1.5, b - a), tall - 4);
        edge = Math.floor(Math.max(a + 1, b)); last_ = kind;
      }
      if (chosen >= 0 && shown[tries.job[chosen]] && rowOf(chosen) === r) {
        pen.strokeStyle = colours.ink; pen.lineWidth = 2;
        pen.strokeRect(Math.max(LABEL, x(tries.start[chosen])) - 2, y + 1, Math.max(1.5, x(ended(chosen)) - x(tries.start[chosen])) + 4, tall - 2);
        pen.lineWidth = 1;
      }
    }
    if (byRow.length > rows) {
      const h = Math.max(20, rows / byRow.length * (height - top)), y = top + view.top / (byRow.length - rows) * (height - top - h);
      pen.fillStyle = colours.line; pen.fillRect(width - 6, y, 5, h);
    }
  };
  let asked = false;
  const later = () => { if (!asked) { asked = true; requestAnimationFrame(() => { asked = false; draw(); }); } };
  const zoom = (factor, middle) => {
    const size = Math.min(last - first, Math.max(1, (view.to - view.from) * factor));
    const share = (middle - view.from) / (view.to - view.from);
    view.from = Math.max(first, Math.min(last - size, middle - share * size)); view.to = view.from + size;
    later();
  };
  const move = (ms) => {
    const size = view.to - view.from;
    view.from = Math.max(first, Math.min(last - size, view.from + ms)); view.to = view.from + size;
    later();
  };
  const scroll = (rows) => { view.top = Math.max(0, Math.min(Math.max(0, byRow.length - fit()), view.top + rows)); later(); };
  const hit = (px, py) => {
    const r = Math.floor((py - DEPTH - AXIS) / rowHeight()) + view.top;
    if (py < DEPTH + AXIS || px < LABEL || r >= byRow.length) return -1;
    const row = byRow[r], ms = at(px), slack = 3 / (width - LABEL) * (view.to - view.from);
    let best = -1, near = slack;
    for (let k = from(row, ms - slack * 2); k < row.length && tries.start[row[k]] <= ms + slack; k++) {
      const i = row[k], off = ms < tries.start[i] ? tries.start[i] - ms : ms > ended(i) ? ms - ended(i) : 0;
      if (off < near || off === 0) { near = off; best = i; }
    }
    return best;
  };
  const choose = (i, open) => {
    chosen = i;
    if (i < 0) { later(); return; }
    if (tries.start[i] < view.from || tries.start[i] > view.to) move(tries.start[i] - (view.from + view.to) / 2);
    const r = rowOf(i);
    if (r < view.top || r >= view.top + fit()) scroll(r - view.top - Math.floor(fit() / 2));
    $("live").textContent = about(i).replace(/\n/g, "; ");
    if (open) detail(tries.job[i], true);
    later();
  };
  const next = (way) => {
    const list = [];
    for (let i = 0; i < count; i++) if (shown[tries.job[i]]) list.push(i);
    if (!list.length) return;
    const place = list.indexOf(chosen);
    choose(list[place < 0 ? (way > 0 ? 0 : list.length - 1) : Math.max(0, Math.min(list.length - 1, place + way))], false);
  };

  // --- hands and keys ------------------------------------------------------------------------------
  const box = $("view"), tip = $("tip");
  let drag = null;
  box.addEventListener("pointerdown", (e) => { drag = { x: e.offsetX, y: e.offsetY, moved: false, from: view.from, to: view.to, top: view.top }; box.setPointerCapture(e.pointerId); });
  box.addEventListener("pointermove", (e) => {
    if (drag) {
      if (Math.abs(e.offsetX - drag.x) + Math.abs(e.offsetY - drag.y) > 3) drag.moved = true;
      if (drag.moved) {
        const size = drag.to - drag.from;
        view.from = Math.max(first, Math.min(last - size, drag.from - (e.offsetX - drag.x) / (width - LABEL - 8) * size)); view.to = view.from + size;
        view.top = Math.max(0, Math.min(Math.max(0, byRow.length - fit()), drag.top - Math.round((e.offsetY - drag.y) / rowHeight())));
        later();
      }
      return;
    }
    const i = hit(e.offsetX, e.offsetY);
    tip.hidden = i < 0;
    if (i >= 0) {
      tip.textContent = about(i);
      tip.style.left = Math.min(e.offsetX + 14, width - tip.offsetWidth - 4) + "px";
      tip.style.top = Math.min(e.offsetY + 14, height - tip.offsetHeight - 4) + "px";
    }
  });
  box.addEventListener("pointerup", (e) => { if (drag && !drag.moved) { const i = hit(e.offsetX, e.offsetY); if (i >= 0) choose(i, true); } drag = null; });
  box.addEventListener("pointercancel", () => { drag = null; });
  box.addEventListener("pointerleave", () => { tip.hidden = true; });
  box.addEventListener("wheel", (e) => {
    if (e.ctrlKey || e.metaKey) { e.preventDefault(); zoom(e.deltaY > 0 ? 1.25 : .8, at(e.offsetX)); }
    else if (e.shiftKey || Math.abs(e.deltaX) > Math.abs(e.deltaY)) { e.preventDefault(); move((e.deltaX || e.deltaY) / width * (view.to - view.from)); }
    else if (byRow.length > fit()) { e.preventDefault(); scroll(Math.sign(e.deltaY) * 3); }
  }, { passive: false });
  box.addEventListener("keydown", (e) => {
    const size = view.to - view.from, middle = (view.from + view.to) / 2;
    const keys = { ArrowLeft: () => move(-size / 8), ArrowRight: () => move(size / 8), ArrowUp: () => scroll(-1), ArrowDown: () => scroll(1),
      PageUp: () => scroll(-fit()), PageDown: () => scroll(fit()), "+": () => zoom(.67, middle), "=": () => zoom(.67, middle), "-": () => zoom(1.5, middle), "0": () => all(),
      n: () => next(1), p: () => next(-1), Enter: () => { if (chosen >= 0) choose(chosen, true); }, Escape: () => { $("detail").hidden = true; } };
    if (!e.ctrlKey && !e.metaKey && !e.altKey && keys[e.key]) { e.preventDefault(); keys[e.key](); }
  });
  const all = () => { view.from = first; view.to = last; view.top = 0; later(); };
  $("zoom-in").addEventListener("click", () => zoom(.5, (view.from + view.to) / 2));
  $("zoom-out").addEventListener("click", () => zoom(2, (view.from + view.to) / 2));
  $("zoom-all").addEventListener("click", all);
  $("rows").addEventListener("change", () => { view.rows = $("rows").value; view.top = 0; lay(); later(); });
  $("search").addEventListener("input", filter);
  for (const id of ["type", "queue", "states"]) $(id).addEventListener("change", filter);

  // --- tables --------------------------------------------------------------------------------------
  const cell = (row, value, name) => { const td = document.createElement("td"); td.textContent = value; if (name) td.className = name; row.append(td); return td; };
  const table = () => {
    const body = $("job-rows"); body.textContent = "";
    for (const j of order.slice(page * SIZE, (page + 1) * SIZE)) {
      const row = document.createElement("tr"), button = document.createElement("button");
      button.type = "button"; button.textContent = jobs.id[j]; button.addEventListener("click", () => detail(j, false));
      cell(row, "").append(button);
      cell(row, text(jobs.args[j])); cell(row, queues[jobs.queue[j]]); cell(row, full(jobs.enqueued[j]));
      cell(row, (ofJob.get(j) || []).length); cell(row, states[jobs.state[j]], "state-" + states[jobs.state[j]]); cell(row, text(jobs.error[j]));
      body.append(row);
    }
    const pages = Math.max(1, Math.ceil(order.length / SIZE));
    $("count").textContent = `${order.length.toLocaleString("en")} of ${total.toLocaleString("en")} jobs` + (pages > 1 ? `, page ${page + 1} of ${pages}` : "");
    $("before").disabled = page === 0; $("after").disabled = page >= pages - 1;
  };
  $("before").addEventListener("click", () => { page--; table(); });
  $("after").addEventListener("click", () => { page++; table(); });
  const detail = (j, focus) => {
    $("detail").hidden = false;
    $("detail-title").textContent = `${jobs.id[j]}(${text(jobs.args[j])})`;
    $("detail-head").textContent = `${states[jobs.state[j]]}; enqueued ${full(jobs.enqueued[j])} in ${queues[jobs.queue[j]]}, due ${full(jobs.due[j])}`;
    const body = $("detail-rows"); body.textContent = "";
    for (const i of ofJob.get(j) || []) {
      const row = document.createElement("tr");
      cell(row, tries.number[i]); cell(row, full(tries.start[i])); cell(row, tries.end[i] < 0 ? "runs still" : span(tries.end[i] - tries.start[i]));
      cell(row, workers[tries.worker[i]]);
      cell(row, outcomes[tries.outcome[i]] + (tries.error[i] >= 0 ? ": " + text(tries.error[i]) : ""));
      cell(row, tries.wait[i] >= 0 ? "tries again in " + span(tries.wait[i]) : "");
      body.append(row);
    }
    if (focus) $("detail").focus();
  };

  const byName = new Map(jobs.id.map((id, j) => [id, j]));
  for (const link of document.querySelectorAll("a[data-job]")) link.addEventListener("click", (e) => {
    const j = byName.get(link.dataset.job);
    if (j === undefined) return;
    e.preventDefault();
    const i = (ofJob.get(j) || []).find((one) => tries.number[one] === +link.dataset.attempt);
    if (i !== undefined && shown[j]) choose(i, false);
    detail(j, true); $("detail").scrollIntoView({ block: "nearest" });
  });

  for (const kind of outcomes) {
    const item = document.createElement("span"), mark = document.createElement("i");
    mark.style.background = `var(--${kind})`; item.append(mark, kind); $("legend").append(item);
  }
  filter();
  window.addEventListener("resize", () => { lay(); draw(); });
  matchMedia("(prefers-color-scheme: dark)").addEventListener("change", () => { measure(); draw(); });
  document.documentElement.dataset.ready = "true";
})();
