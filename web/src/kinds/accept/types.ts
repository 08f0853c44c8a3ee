/** What an acceptance test found, as the service writes it. */
export type Rates = { frames_per_second: number; ip_bps: number; frame_bps: number; line_bps: number };
export type Delay = { of: string; least_ms: number; mean_ms: number; p999_ms: number; error_ms: number };
export type Step = { of_most_ratio?: number; offered: Rates; received: Rates; sent: number; lost: number; loss_ratio: number | null; delay?: Delay };
export type Criterion = { part: string; figure: string; frame_bytes?: number; service?: string; there: boolean; at?: string; at_least: boolean; limit: number; measured: number | null; margin: number | null; unit: string; verdict: Verdict; why?: string };
export type Verdict = "" | "pass" | "fail" | "not_told";
export type SizeWay = { there: boolean; throughput?: { rates: Rates; most_fps: number; limited_by_host?: string; too_large?: boolean }; latency?: { delay: Delay }; frame_loss?: Step[]; back_to_back?: { frames: number; all_carried: boolean; buffer_ms?: number } };
export type ServiceWay = { there: boolean; cir: Rates; eir: Rates; steps?: Step[]; cir_and_eir?: Step; policing?: Step; policed_frame_bps?: number; performance?: Step & { availability_ratio: number | null } };
export type Found = {
  verdict: Verdict;
  criteria: Criterion[] | null;
  sizes?: { frame_bytes: number; directions: SizeWay[] }[];
  services?: { service: string; directions: ServiceWay[] }[];
  stopped?: string;
  notes?: string[];
  trials: number;
  repeated_trials: number;
};
export type Plan = { plan?: string; about?: About; ends?: string; [key: string]: unknown };
export type About = { title?: string; customer?: string; technician?: string; place?: string; order?: string; comment?: string };
export type Result = { target: string; from: string; to: string; started_at: string; ended_at: string; plan: Plan; complete: boolean; problem?: string; found: Found };
export type Estimated = { estimate: { least: string; most: string; trials: number; most_trials: number; most_there_bytes: number; most_back_bytes: number } };
