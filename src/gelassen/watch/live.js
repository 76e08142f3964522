"use strict";
(() => {
  const by = (id) => document.getElementById(id);
  const colours = ["#0072B2", "#D55E00", "#009E73", "#CC79A7", "#E69F00", "#56B4E9", "#999999"];
  const digits = { "°C": 1, W: 1, MHz: 0, rpm: 0 };
  let drawn = new Map(), shape = "", latest = null, heard = Date.now();

  const clock = (s) => {
    const whole = Math.round(Math.abs(s));
    return `${s < 0 ? "−" : ""}${Math.floor(whole / 60)}:${String(whole % 60).padStart(2, "0")}`;
  };
  const put = (id, text) => { if (by(id).textContent !== text) by(id).textContent = text; };

  function phase(state) {
    if (state.problem) return state.problem;
    if (state.going) return `${state.phase || "starting"} for ${clock(state.phase_s)}, ${clock(state.elapsed_s)} in all`;
    return `${state.outcome} after ${clock(state.elapsed_s)}`;
  }

  function now(traces) {
    by("now").replaceChildren(...traces.map((trace) => {
      const holder = document.createElement("div");
      const name = document.createElement("dt"), value = document.createElement("dd");
      const last = trace.values[trace.values.length - 1];
      name.textContent = trace.label;
      value.textContent = last == null ? "–" : `${last.toFixed(digits[trace.unit] ?? 1)} ${trace.unit}`;
      holder.append(name, value);
      return holder;
    }));
  }

  function charts(traces) {
    const wanted = traces.map((t) => `${t.unit} ${t.label}`).join("\n");
    const groups = Map.groupBy ? Map.groupBy(traces, (t) => t.unit)
      : traces.reduce((all, t) => all.set(t.unit, [...(all.get(t.unit) ?? []), t]), new Map());
    if (wanted !== shape) {
      shape = wanted;
      drawn = new Map();
      by("charts").replaceChildren();
    }
    const style = getComputedStyle(document.body);
    const ink = style.getPropertyValue("--text").trim(), grid = style.getPropertyValue("--line").trim();
    for (const [unit, group] of groups) {
      const table = uPlot.join(group.map((t) => [t.time_s, t.values]));
      if (drawn.has(unit)) { drawn.get(unit).setData(table); continue; }
      const holder = document.createElement("div");
      holder.className = "chart";
      holder.setAttribute("role", "img");
      holder.setAttribute("aria-label", `${unit} over time: ${group.map((t) => t.label).join(", ")}`);
      by("charts").append(holder);
      const axis = { stroke: ink, grid: { stroke: grid, width: 1 }, ticks: { stroke: grid } };
      drawn.set(unit, new uPlot({
        width: Math.max(by("charts").clientWidth, 280), height: 220, scales: { x: { time: false } },
        series: [{ label: "min:s", value: (u, v) => (v == null ? "" : clock(v)) }, ...group.map((t, k) => ({
          label: t.label, spanGaps: true, width: 1.8, stroke: colours[k % colours.length],
          value: (u, v) => (v == null ? "" : `${v} ${unit}`),
        }))],
        cursor: { sync: { key: "traces" }, drag: { x: true, y: false } },
        axes: [{ ...axis, values: (u, all) => all.map(clock) }, { ...axis, label: unit, size: 64 }],
      }, table, holder));
    }
  }

  function show(state) {
    latest = state;
    put("title", state.title);
    document.title = state.going ? `${state.phase}: ${state.title}` : state.title;
    by("made-up").hidden = !state.made_up;
    put("run", [state.run, state.setup].filter(Boolean).join("  "));
    put("phase", phase(state));
    put("estimate", state.estimate);
    now(state.traces);
    charts(state.traces);
    by("messages").replaceChildren(...state.messages.map((text) => {
      const item = document.createElement("li");
      item.textContent = text;
      return item;
    }));
  }

  const again = () => { shape = ""; if (latest) charts(latest.traces); };
  let wait;
  addEventListener("resize", () => { clearTimeout(wait); wait = setTimeout(again, 150); });
  matchMedia("(prefers-color-scheme: dark)").addEventListener("change", again);

  const source = new EventSource(`events${location.search}`);
  source.onmessage = (event) => { heard = Date.now(); show(JSON.parse(event.data)); };
  // A page that has lost its machine must not look like one that is up to date.
  setInterval(() => {
    const late = Date.now() - heard > 10000;
    by("phase").classList.toggle("late", late);
    if (late) put("phase", `nothing heard for ${clock((Date.now() - heard) / 1000)}: is the machine still on?`);
  }, 1000);
})();
