"use strict";
(() => {
  const data = JSON.parse(document.getElementById("data").textContent);
  const by = (id) => document.getElementById(id);

  // Tables: sorted by a click on a header, filtered by words.
  for (const table of document.querySelectorAll("table.sortable")) {
    const body = table.tBodies[0];
    table.querySelectorAll("th").forEach((header, column) => {
      header.querySelector("button")?.addEventListener("click", () => {
        const up = header.getAttribute("aria-sort") !== "ascending";
        table.querySelectorAll("th").forEach((one) => one.removeAttribute("aria-sort"));
        header.setAttribute("aria-sort", up ? "ascending" : "descending");
        const key = (row) => row.cells[column].dataset.value ?? row.cells[column].textContent;
        const rows = [...body.rows].sort((a, b) => {
          const [x, y] = [key(a), key(b)];
          const [m, n] = [parseFloat(x), parseFloat(y)];
          const order = Number.isNaN(m) || Number.isNaN(n) ? x.localeCompare(y) : m - n;
          return up ? order : -order;
        });
        body.append(...rows);
      });
    });
  }
  by("filter")?.addEventListener("input", (event) => {
    const words = event.target.value.toLowerCase().split(/\s+/);
    for (const row of document.querySelectorAll("table.filtered tbody tr")) {
      const text = row.textContent.toLowerCase();
      row.hidden = !words.every((word) => text.includes(word));
    }
  });

  // Downloads.
  const give = (name, text, kind) => {
    const link = document.createElement("a");
    link.href = URL.createObjectURL(new Blob([text], { type: kind }));
    link.download = name;
    link.click();
    setTimeout(() => URL.revokeObjectURL(link.href), 1000);
  };
  by("csv")?.addEventListener("click", () => give(`${data.slug}.csv`, data.csv, "text/csv"));
  by("json")?.addEventListener("click", () =>
    give(`${data.slug}.json`, JSON.stringify(data.answer, null, 2), "application/json"));

  // Traces: one chart a unit, two runs over each other from the start of their loads.
  const first = by("first"), second = by("second"), charts = by("charts"), channels = by("channels");
  if (!first || !data.runs.length) return;
  const colours = ["#0072B2", "#D55E00", "#009E73", "#CC79A7", "#E69F00", "#56B4E9", "#999999"];
  const off = new Set();
  const clock = (s) => {
    const whole = Math.round(Math.abs(s));
    return `${s < 0 ? "−" : ""}${Math.floor(whole / 60)}:${String(whole % 60).padStart(2, "0")}`;
  };
  const run = (select) => data.runs.find((one) => one.run === select.value);

  function draw() {
    charts.replaceChildren();
    const chosen = [run(first), run(second)].filter(Boolean);
    const units = [...new Set(chosen.flatMap((one) => one.traces.map((t) => t.unit)))];
    const style = getComputedStyle(document.body);
    const ink = style.getPropertyValue("--text").trim(), grid = style.getPropertyValue("--line").trim();
    for (const unit of units) {
      const tables = [], series = [{ label: "min:s", value: (u, v) => (v == null ? "" : clock(v)) }];
      chosen.forEach((one, which) => {
        one.traces.filter((t) => t.unit === unit && !off.has(t.label)).forEach((t) => {
          tables.push([t.time_s, t.values]);
          const place = [...new Set(chosen.flatMap((r) => r.traces.map((x) => x.label)))].indexOf(t.label);
          series.push({
            label: chosen.length > 1 ? `${t.label} (${which ? "B" : "A"})` : t.label, spanGaps: true,
            stroke: colours[place % colours.length], width: which ? 1.5 : 1.8, dash: which ? [6, 4] : [],
            value: (u, v) => (v == null ? "" : `${v} ${unit}`),
          });
        });
      });
      if (!tables.length) continue;
      const holder = document.createElement("div");
      holder.className = "chart";
      holder.setAttribute("role", "img");
      holder.setAttribute("aria-label", `${unit} over time: ${series.slice(1).map((s) => s.label).join(", ")}`);
      charts.append(holder);
      const axis = { stroke: ink, grid: { stroke: grid, width: 1 }, ticks: { stroke: grid } };
      new uPlot({
        width: Math.max(charts.clientWidth, 280), height: 220, series, scales: { x: { time: false } },
        cursor: { sync: { key: "traces" }, drag: { x: true, y: false } },
        axes: [{ ...axis, values: (u, all) => all.map(clock) }, { ...axis, label: unit, size: 64 }],
      }, uPlot.join(tables), holder);
    }
  }

  function offer() {
    const labels = [...new Set([run(first), run(second)].filter(Boolean).flatMap((one) => one.traces.map((t) => t.label)))];
    channels.querySelectorAll("label").forEach((one) => one.remove());
    for (const text of labels) {
      const label = document.createElement("label"), box = document.createElement("input");
      box.type = "checkbox";
      box.checked = !off.has(text);
      box.addEventListener("change", () => { box.checked ? off.delete(text) : off.add(text); draw(); });
      label.append(box, text);
      channels.append(label);
    }
  }
  const both = () => { offer(); draw(); };
  first.addEventListener("change", both);
  second.addEventListener("change", both);
  by("full")?.addEventListener("click", draw);
  matchMedia("(prefers-color-scheme: dark)").addEventListener("change", draw);
  let wait;
  addEventListener("resize", () => { clearTimeout(wait); wait = setTimeout(draw, 150); });
  both();
})();
