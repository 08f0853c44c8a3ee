import type { ComponentType } from "react";
import type { Run } from "../api";

/** A Panel is how the console knows a kind of measurement: what it is called, what its form asks for first, and how what it found is drawn. What is not said here comes from the kind's own fields. */
export type Panel = {
  /** of the tab */
  label: string;
  /** fields that the form shows at once; the others are behind "More" */
  first: string[];
  /** what stands in the form at first, where that is not what is usual */
  usual?: Record<string, string>;
  /** what the targets are */
  to: string;
  hint: string;
  /** what is said before anything was measured */
  says: string;
  /** how often a watch measures it; without a pause when left out and the kind can */
  repeat?: string;
  /** what runs found, so far or in the end */
  Found: ComponentType<{ run: Run }>;
  /** runs stand beside each other */
  beside?: boolean;
};
