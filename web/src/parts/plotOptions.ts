import type { EChartsCoreOption } from "echarts/core";
import type { Lanes, Series } from "../api";
import { exactly, localZone, ms, percent, span, type Range } from "../format";

type Point = [number, number | null];
type Moves = NonNullable<Lanes["changes"]>;

const resolutions: Record<string, string> = {
  probe: "single probes",
  reading: "single readings",
  "10m": "ten minutes",
  "1h": "an hour",
  "1d": "a day",
};

/** resolutionText says what one point of the plot is. */
/** What lies left and right of the plot, in pixels: what shares its time lines up with it. */
export const plotLeft = 64;
export const plotRight = 16;

export const resolutionText = (s: Series) => resolutions[s.resolution] ?? s.resolution;

/** options makes the plot of a series in the colours of the page. */
export function options(s: Series, moves: Moves, range: Range, box: HTMLElement): EChartsCoreOption {
  const style = getComputedStyle(box);
  const colour = (name: string) => style.getPropertyValue("--" + name).trim();
  const at = (s.at ?? []).map((t) => new Date(t).getTime());
  const delays = withGaps(s, at, s.rtt_median_ms ?? []);
  const [low, high] = steps(s, range);
  const top = ceiling(s);
  const bottom = floor(s);
  const text = { color: colour("soft"), fontSize: 13, fontFamily: style.fontFamily };
  const single = s.resolution === "probe";
  return {
    animation: false,
    textStyle: { fontFamily: style.fontFamily },
    grid: { left: plotLeft, right: plotRight, top: 30, bottom: 54 },
    xAxis: {
      type: "time", min: range.from, max: range.to, name: `local time, ${localZone}`, nameLocation: "middle", nameGap: 34, nameTextStyle: text,
      axisLabel: { ...text, hideOverlap: true, formatter: dateLabel(range) }, axisLine: { lineStyle: { color: colour("line") } }, axisTick: { lineStyle: { color: colour("line") } },
    },
    yAxis: {
      type: "value", min: bottom, max: top, name: "RTT, ms", nameTextStyle: { ...text, align: "right" }, axisLabel: { ...text, showMaxLabel: false, showMinLabel: bottom === 0 },
      splitLine: { lineStyle: { color: colour("line"), opacity: 0.6 } },
    },
    tooltip: {
      trigger: "axis", confine: true, backgroundColor: colour("sheet"), borderColor: colour("line"), padding: [6, 10],
      textStyle: { color: colour("ink"), fontSize: 13 }, axisPointer: { type: "line", lineStyle: { color: colour("soft"), width: 1 } },
      formatter: (hit: { dataIndex: number; axisValue: number }[]) => tip(s, moves, range, at, hit[0]?.axisValue ?? 0),
    },
    series: [
      ribbonOf(low, high, colour("ribbon")),
      ...spreadOf(s, at, colour("ink")),
      {
        name: "RTT", type: "line", data: delays, showSymbol: single, symbol: "circle", symbolSize: 3, connectNulls: false, z: 4,
        lineStyle: { color: colour("ink"), width: single ? 0.6 : 1.4 }, itemStyle: { color: colour("ink") }, sampling: undefined, markArea: gaps(s, range, text.color, colour("line")),
      },
      lossOf(s, at, colour("plum")),
      loadsOf(s, range, colour("soft")),
      maintenanceOf(s, range, colour("line")),
      episodesOf(s, range, colour("ochre"), colour("plum")),
      evidenceOf(s, colour("ink"), colour("sheet")),
      flagsOf(moves, colour("ink")),
      annotationsOf(s, range, colour("ink")),
    ],
  };
}

/** dateLabel writes the axis: hours within three days, days of the week within a month, else dates. */
function dateLabel(range: Range) {
  const length = range.to - range.from;
  const day = 86_400_000;
  const form: Intl.DateTimeFormatOptions =
    length <= 3 * day ? { hour: "2-digit", minute: "2-digit", hour12: false } : length <= 31 * day ? { weekday: "short", day: "numeric" } : { day: "numeric", month: "short" };
  if (length <= 300_000) form.second = "2-digit";
  const write = new Intl.DateTimeFormat("en-GB", form);
  const date = new Intl.DateTimeFormat("en-GB", { weekday: "short", day: "numeric", month: "short" });
  return (t: number) => {
    const midnight = new Date(t).getHours() === 0 && new Date(t).getMinutes() === 0;
    return length <= 3 * day && midnight ? date.format(t) : write.format(t);
  };
}

/** withGaps breaks the line where readings are missing, so that nothing is drawn that was not measured. */
function withGaps(s: Series, at: number[], values: (number | null)[]): Point[] {
  const out: Point[] = [];
  at.forEach((t, i) => {
    const width = (s.span_s?.[i] ?? 0) * 1000;
    const before = i > 0 ? at[i - 1]! + (s.span_s?.[i - 1] ?? 0) * 1000 : t;
    if (i > 0 && t - before > Math.max(width, 1500) * 1.5) out.push([before + 1, null]);
    out.push([t + width / 2, values[i] ?? null]);
  });
  return out;
}

function steps(s: Series, range: Range): [Point[], Point[]] {
  const low: Point[] = [];
  const high: Point[] = [];
  (s.normal.at ?? []).forEach((t, i) => {
    const time = Math.max(range.from, new Date(t).getTime());
    low.push([time, s.normal.low_ms?.[i] ?? null]);
    high.push([time, s.normal.high_ms?.[i] ?? null]);
  });
  if (low.length > 0) {
    low.push([range.to, low[low.length - 1]![1]]);
    high.push([range.to, high[high.length - 1]![1]]);
  }
  return [low, high];
}

const known = (list: readonly (number | null)[] | null | undefined) => (list ?? []).filter((v): v is number => v != null);

function extent(s: Series): [number, number] {
  const single = s.resolution === "probe";
  const values = [...known(s.rtt_median_ms), ...(single ? [] : known(s.rtt_p95_ms)), ...known(s.normal.low_ms), ...known(s.normal.high_ms)];
  if (values.length === 0) return [0, 1];
  let [low, high] = [Infinity, 0];
  for (const v of values) {
    low = Math.min(low, v);
    high = Math.max(high, v);
  }
  return [low, high];
}

function ceiling(s: Series): number {
  const [low, high] = extent(s);
  return nice(high + Math.max(high - low, high * 0.05) * 0.25);
}

function floor(s: Series): number {
  const [low, high] = extent(s);
  // From zero, unless all happens in a narrow band far above it.
  return low > 0.6 * high ? Math.max(0, Math.floor((low - (high - low)) * 10) / 10) : 0;
}

function nice(v: number): number {
  const unit = 10 ** Math.floor(Math.log10(v));
  return Math.ceil((v / unit) * 5) / 5 * unit;
}

type Custom = {
  value(i: number): number;
  coord(v: number[]): number[];
};
type Frame = { coordSys: { x: number; y: number; width: number; height: number } };

function ribbonOf(low: Point[], high: Point[], fill: string) {
  const corners = low.slice(0, -1).map((p, i) => [p[0], low[i + 1]![0], p[1], high[i]![1]]);
  return {
    name: "normal", type: "custom", silent: true, z: 1, data: corners, tooltip: { show: false }, clip: true,
    renderItem: (_: Frame, api: Custom) => {
      const a = api.coord([api.value(0), api.value(3)]);
      const b = api.coord([api.value(1), api.value(2)]);
      const thin = Math.max(0, 3 - (b[1]! - a[1]!)) / 2;
      return { type: "rect", shape: { x: a[0], y: a[1]! - thin, width: b[0]! - a[0]! + 0.5, height: b[1]! - a[1]! + 2 * thin }, style: { fill } };
    },
  };
}

/** spreadOf is a faint stroke from the least to the 95 % quantile of each point. */
function spreadOf(s: Series, at: number[], stroke: string) {
  if (s.resolution === "probe") return [];
  const data = at.flatMap((t, i) => {
    const low = s.rtt_min_ms?.[i];
    const high = s.rtt_p95_ms?.[i];
    return low == null || high == null ? [] : [[t + ((s.span_s?.[i] ?? 0) * 1000) / 2, low, high]];
  });
  return [
    {
      name: "spread", type: "custom", silent: true, z: 2, data, tooltip: { show: false }, clip: true,
      renderItem: (_: Frame, api: Custom) => {
        const a = api.coord([api.value(0), api.value(1)]);
        const b = api.coord([api.value(0), api.value(2)]);
        return { type: "line", shape: { x1: a[0], y1: a[1], x2: b[0], y2: b[1] }, style: { stroke, opacity: s.at && s.at.length > 900 ? 0.1 : 0.22, lineWidth: 1 } };
      },
    },
  ];
}

/** lossOf hangs a tick from the top for each point with loss, longer for more. */
function lossOf(s: Series, at: number[], stroke: string) {
  const data = at.flatMap((t, i) => {
    const ratio = s.loss_ratio?.[i];
    return ratio ? [[t + ((s.span_s?.[i] ?? 0) * 1000) / 2, ratio]] : [];
  });
  return {
    name: "loss", type: "custom", silent: true, z: 5, data, tooltip: { show: false }, clip: true,
    renderItem: (frame: Frame, api: Custom) => {
      const x = api.coord([api.value(0), 0])[0];
      const y = frame.coordSys.y;
      return { type: "line", shape: { x1: x, y1: y, x2: x, y2: y + 5 + 45 * Math.sqrt(api.value(1)) }, style: { stroke, lineWidth: 1.6 } };
    },
  };
}

/** episodesOf is a bar along the time axis where the path was degraded or lost. */
function episodesOf(s: Series, range: Range, ochre: string, plum: string) {
  const data = (s.episodes ?? []).map((e) => [
    Math.max(range.from, new Date(e.from_at).getTime()),
    e.to_at ? Math.min(range.to, new Date(e.to_at).getTime()) : range.to,
    e.kind === "lost" ? 1 : 0,
  ]);
  return {
    name: "episodes", type: "custom", silent: true, z: 6, data, tooltip: { show: false }, clip: true,
    renderItem: (frame: Frame, api: Custom) => {
      const a = api.coord([api.value(0), 0])[0]!;
      const b = api.coord([api.value(1), 0])[0]!;
      const bottom = frame.coordSys.y + frame.coordSys.height;
      return { type: "rect", shape: { x: a, y: bottom - 5, width: Math.max(2, b - a), height: 5 }, style: { fill: api.value(2) ? plum : ochre } };
    },
  };
}

/** hatch is a pattern of slanted lines. */
function hatch(stroke: string) {
  const image = document.createElement("canvas");
  image.width = image.height = 8;
  const pen = image.getContext("2d")!;
  pen.strokeStyle = stroke;
  pen.lineWidth = 1;
  for (const x of [-4, 0, 4]) {
    pen.moveTo(x, 8);
    pen.lineTo(x + 8, 0);
  }
  pen.stroke();
  return { image, repeat: "repeat" };
}

/** loadsOf hatches what a load run may have disturbed; one that is short on this scale still shows. */
function loadsOf(s: Series, range: Range, stroke: string) {
  const fill = hatch(stroke);
  const data = (s.loads ?? []).map((l) => [Math.max(range.from, new Date(l.from_at).getTime()), l.to_at ? Math.min(range.to, new Date(l.to_at).getTime()) : range.to]);
  return {
    name: "loads", type: "custom", silent: true, z: 3, data, tooltip: { show: false }, clip: true,
    renderItem: (frame: Frame, api: Custom) => {
      const a = api.coord([api.value(0), 0])[0]!;
      const b = api.coord([api.value(1), 0])[0]!;
      const width = Math.max(4, b - a);
      return { type: "rect", shape: { x: (a + b) / 2 - width / 2, y: frame.coordSys.y, width, height: frame.coordSys.height }, style: { fill, opacity: 0.45 } };
    },
  };
}

/** maintenanceOf hatches what was maintenance: measured, but not judged. */
function maintenanceOf(s: Series, range: Range, stroke: string) {
  const fill = hatch(stroke);
  const data = (s.maintenance ?? []).map((m) => [Math.max(range.from, new Date(m.from_at).getTime()), Math.min(range.to, new Date(m.to_at).getTime())]);
  return {
    name: "maintenance", type: "custom", silent: true, z: 0, data, tooltip: { show: false }, clip: true,
    renderItem: (frame: Frame, api: Custom) => {
      const a = api.coord([api.value(0), 0])[0]!;
      const b = api.coord([api.value(1), 0])[0]!;
      return { type: "rect", shape: { x: a, y: frame.coordSys.y, width: Math.max(3, b - a), height: frame.coordSys.height }, style: { fill } };
    },
  };
}

/** flagsOf are small flags on the time axis where the route became another. */
function flagsOf(moves: Moves, ink: string) {
  return {
    name: "route changes", type: "custom", silent: true, z: 7, data: moves.map((m) => [new Date(m.at).getTime(), new Date(m.before_at).getTime()]), tooltip: { show: false }, clip: false,
    renderItem: (frame: Frame, api: Custom) => {
      const x = api.coord([api.value(0), 0])[0]!;
      const since = Math.max(frame.coordSys.x, api.coord([api.value(1), 0])[0]!); // it changed between the two
      const bottom = frame.coordSys.y + frame.coordSys.height;
      return {
        type: "group",
        children: [
          { type: "line", shape: { x1: since, y1: bottom - 10, x2: x, y2: bottom - 10 }, style: { stroke: ink, lineWidth: 1, lineDash: [2, 3] } },
          { type: "line", shape: { x1: x, y1: bottom, x2: x, y2: bottom - 22 }, style: { stroke: ink, lineWidth: 1.4 } },
          { type: "polygon", shape: { points: [[x, bottom - 22], [x + 9, bottom - 18], [x, bottom - 14]] }, style: { fill: ink } },
        ],
      };
    },
  };
}

/** evidenceOf are small diamonds above the time axis where evidence of an episode was taken. */
function evidenceOf(s: Series, ink: string, sheet: string) {
  const times = [...new Set((s.evidence ?? []).map((e) => Math.round(new Date(e.at).getTime() / 1000) * 1000))];
  return {
    name: "evidence", type: "custom", silent: true, z: 8, data: times.map((t) => [t]), tooltip: { show: false }, clip: true,
    renderItem: (frame: Frame, api: Custom) => {
      const x = api.coord([api.value(0), 0])[0]!;
      const y = frame.coordSys.y + frame.coordSys.height - 12;
      return { type: "polygon", shape: { points: [[x, y - 5], [x + 5, y], [x, y + 5], [x - 5, y]] }, style: { fill: sheet, stroke: ink, lineWidth: 1.4 } };
    },
  };
}

/** annotationsOf are small squares at the top where people wrote something, with a line over the span that it is of. */
function annotationsOf(s: Series, range: Range, ink: string) {
  const data = (s.annotations ?? []).map((a) => {
    const at = new Date(a.at).getTime();
    return [Math.max(range.from, at), a.until_at ? Math.min(range.to, new Date(a.until_at).getTime()) : Math.max(range.from, at)];
  });
  return {
    name: "notes", type: "custom", silent: true, z: 9, data, tooltip: { show: false }, clip: false,
    renderItem: (frame: Frame, api: Custom) => {
      const a = api.coord([api.value(0), 0])[0]!;
      const b = api.coord([api.value(1), 0])[0]!;
      const y = frame.coordSys.y - 8;
      return {
        type: "group",
        children: [
          { type: "rect", shape: { x: a - 4, y: y - 4, width: 8, height: 8 }, style: { fill: ink } },
          { type: "line", shape: { x1: a, y1: y, x2: b, y2: y }, style: { stroke: ink, lineWidth: 1.4 } },
          { type: "line", shape: { x1: a, y1: y, x2: a, y2: frame.coordSys.y + frame.coordSys.height }, style: { stroke: ink, lineWidth: 0.6, lineDash: [1, 4] } },
        ],
      };
    },
  };
}

/** gaps name the reason where there are no readings. */
function gaps(s: Series, range: Range, colour: string, fill: string) {
  const end = (g: { to_at: string | null }) => (g.to_at ? Math.min(range.to, new Date(g.to_at).getTime()) : range.to);
  const wide = (g: { from_at: string; to_at: string | null }) => end(g) - new Date(g.from_at).getTime() > 0.04 * (range.to - range.from);
  return {
    silent: true,
    itemStyle: { color: fill, opacity: 0.35 },
    label: { color: colour, fontSize: 12, position: "insideTop", overflow: "truncate" },
    data: (s.gaps ?? []).map((g) => [
      { name: wide(g) ? g.reason : "", xAxis: Math.max(range.from, new Date(g.from_at).getTime()) },
      { xAxis: end(g) },
    ]),
  };
}

const escape = (text: string) => text.replace(/[&<>"]/g, (c) => `&#${c.charCodeAt(0)};`);

function tip(s: Series, moves: Moves, range: Range, at: number[], time: number): string {
  let best = -1;
  at.forEach((t, i) => {
    const middle = t + ((s.span_s?.[i] ?? 0) * 1000) / 2;
    if (best < 0 || Math.abs(middle - time) < Math.abs(at[best]! + ((s.span_s?.[best] ?? 0) * 1000) / 2 - time)) best = i;
  });
  if (best < 0) return "";
  const i = best;
  const width = s.span_s?.[i] ?? 0;
  const lines = [`${exactly(at[i]!)}${width ? ", " + span(width * 1000) : ""}`];
  if (s.resolution === "probe") lines.push(s.outcome?.[i] === "answered" ? `RTT ${ms(s.rtt_median_ms?.[i])} ms` : (s.outcome?.[i] ?? ""));
  else {
    const about = s.approximate && width > 60 ? "≈ " : "";
    lines.push(s.rtt_median_ms?.[i] == null ? "no answer" : `RTT median ${about}${ms(s.rtt_median_ms[i])} ms, ${ms(s.rtt_min_ms?.[i])} to ${ms(s.rtt_max_ms?.[i])} ms, 95 % within ${about}${ms(s.rtt_p95_ms?.[i])} ms`);
    lines.push(`loss ${percent(s.loss_ratio?.[i])} % (${s.lost?.[i]} of ${s.sent?.[i]})`);
  }
  const beside = (s.loads ?? []).find((l) => new Date(l.from_at).getTime() < at[i]! + width * 1000 && (!l.to_at || new Date(l.to_at).getTime() > at[i]!));
  if (beside) lines.push(`beside the load run ${beside.from} → ${beside.to}`);
  const near = moves.find((m) => Math.abs(new Date(m.at).getTime() - time) < (range.to - range.from) / 150);
  if (near) lines.push(`the route changed between ${exactly(near.before_at)} and ${exactly(near.at)}${near.step_ms == null ? "" : `, ${near.step_ms > 0 ? "+" : "−"}${ms(Math.abs(near.step_ms))} ms`}`);
  const kept = (s.maintenance ?? []).find((m) => new Date(m.from_at).getTime() <= at[i]! && new Date(m.to_at).getTime() > at[i]!);
  if (kept) lines.push("maintenance: not judged");
  const taken = (s.evidence ?? []).filter((e) => Math.abs(new Date(e.at).getTime() - time) < (range.to - range.from) / 150);
  for (const a of s.annotations ?? []) {
    const from = new Date(a.at).getTime();
    const to = a.until_at ? new Date(a.until_at).getTime() : from;
    if (time > from - (range.to - range.from) / 100 && time < to + (range.to - range.from) / 100) lines.push(`note by ${a.author}: ${a.text}`);
  }
  if (taken.length > 0) lines.push(`evidence taken: ${[...new Set(taken.map((e) => e.what))].join(", ")}`);
  return lines.map(escape).join("<br>");
}
