import type { Panel } from "./panel";
import { accept } from "./accept";
import { ping } from "./ping";
import { plain } from "./plain";
import { ready } from "./ready";
import { stream } from "./stream";
import { sweep } from "./sweep";
import { throughput } from "./throughput";
import { trace } from "./trace";
import { walk } from "./walk";

const panels: Record<string, Panel> = { ping, trace, sweep, walk, throughput, stream, accept, ready };

/** panelOf is the panel of a kind; one that has none is shown plainly. */
export const panelOf = (name: string): Panel => panels[name] ?? plain(name);
