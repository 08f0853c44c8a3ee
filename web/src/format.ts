/** Figures for readers: three significant digits, never a zero that is not one. */
function significant(v: number, digits: number): string {
  if (v === 0) return "0";
  const decimals = Math.max(0, digits - 1 - Math.floor(Math.log10(Math.abs(v))));
  return v.toFixed(Math.min(9, decimals));
}

export function ms(v: number | null | undefined): string {
  return v == null ? "–" : significant(v, 3);
}

export function percent(ratio: number | null | undefined): string {
  if (ratio == null) return "–";
  const p = ratio * 100;
  return significant(p, Math.abs(p) >= 10 ? 3 : 2);
}

export const localZone = Intl.DateTimeFormat().resolvedOptions().timeZone;

const stamp = new Intl.DateTimeFormat("en-GB", { weekday: "short", day: "numeric", month: "short", hour: "2-digit", minute: "2-digit", hour12: false });
const exact = new Intl.DateTimeFormat("en-GB", { dateStyle: "medium", timeStyle: "medium", hour12: false });

export const when = (t: string | number | Date) => stamp.format(new Date(t));
export const exactly = (t: string | number | Date) => exact.format(new Date(t)) + " " + localZone;

/** span writes a length of time in its two largest units. */
export function span(milliseconds: number): string {
  let rest = Math.max(0, Math.round(milliseconds / 1000));
  const units: [number, string][] = [
    [86400, "d"],
    [3600, "h"],
    [60, "min"],
    [1, "s"],
  ];
  for (let i = 0; i < units.length; i++) {
    const [size, name] = units[i]!;
    if (rest < size) continue;
    const whole = Math.floor(rest / size);
    rest -= whole * size;
    const next = units[i + 1];
    const more = next && whole < 10 ? Math.floor(rest / next[0]) : 0;
    return `${whole} ${name}` + (more > 0 ? ` ${more} ${next![1]}` : "");
  }
  return "0 s";
}

export const ago = (t: string) => span(Date.now() - new Date(t).getTime()) + " ago";

/** bits writes bits a second with their unit; a dash when not known. */
export function bits(bps: number | null | undefined): string {
  if (bps == null) return "–";
  const units = ["bit/s", "kbit/s", "Mbit/s", "Gbit/s"];
  let v = bps;
  let i = 0;
  while (v >= 999.5 && i < units.length - 1) {
    v /= 1000;
    i++;
  }
  return `${v.toFixed(v < 9.995 ? 2 : v < 99.95 ? 1 : 0)} ${units[i]}`;
}

/** Range is a stretch of time, in milliseconds since 1970. */
export type Range = { from: number; to: number };

/** save has the browser keep a text as a file. */
export function save(text: string, name: string, type: string) {
  const at = URL.createObjectURL(new Blob([text], { type }));
  const a = document.createElement("a");
  a.href = at;
  a.download = name;
  a.click();
  URL.revokeObjectURL(at);
}
