/** What a test of readiness found, as far as it is shown. */
export type Verdict = "pass" | "fail" | "not_told" | "";
export type AnswerWord = "fit" | "fit_with_limits" | "not_fit" | "not_told";

export type Criterion = { part: string; what: string; way?: string; seats?: number; measured?: number; limit?: number; unit?: string; at_least?: boolean; verdict: Verdict; why?: string; lesser?: boolean };

export type Found = { answer: AnswerWord; seats: number; fit_for: number | null; sentence: string; criteria: Criterion[] | null; advice: string[] | null; notes?: string[] };

export type Facts = { gateway?: string; near?: { median_ms: number | null; sent: number; lost: number }; rest?: { median_ms: number | null; sent: number; lost: number }; route_there?: string[]; route_back?: string[]; untold?: Record<string, string> };

export type Result = { target: string; from: string; to: string; started_at: string; need: { need: string; says?: string }; quick: boolean; complete: boolean; found: Found; facts: Facts };
