/** degrees reads decimal degrees, with a letter behind where there is one; what is empty has neither a value nor anything wrong. */
export function degrees(text: string, most: number, plus: string, minus: string): { value?: number; wrong?: string } {
  const t = text.trim().toUpperCase();
  if (t === "") return {};
  const found = /^([+-]?\d+(?:[.,]\d+)?)\s*°?\s*([NSEW]?)$/.exec(t);
  const letter = found?.[2] ?? "";
  if (!found || (letter !== "" && letter !== plus && letter !== minus) || (letter !== "" && found[1]!.startsWith("-"))) return { wrong: `such as 60.15 or 60.15 ${plus}` };
  const value = Number(found[1]!.replace(",", ".")) * (letter === minus ? -1 : 1);
  return Math.abs(value) <= most ? { value } : { wrong: `within -${most} and ${most}` };
}
