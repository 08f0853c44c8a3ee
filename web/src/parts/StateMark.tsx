const words: Record<string, string> = {
  steady: "steady",
  degraded: "degraded",
  lost: "lost",
  unmeasured: "unmeasured",
};

const inks: Record<string, string> = {
  steady: "text-ink",
  degraded: "text-ochre",
  lost: "text-plum",
  unmeasured: "text-soft",
};

/** StateShape is the shape of a state, on 16 by 16. */
export function StateShape({ state }: { state: string }) {
  return (
    <>
      {state === "steady" && <circle cx="8" cy="8" r="3" fill="currentColor" stroke="none" />}
      {state === "degraded" && (
        <>
          <path d="M8 1.5 14.5 8 8 14.5 1.5 8Z" />
          <path d="M8 1.5 1.5 8 8 14.5Z" fill="currentColor" />
        </>
      )}
      {state === "lost" && (
        <>
          <circle cx="8" cy="8" r="5.75" />
          <path d="M2.5 8h11" strokeWidth="2" />
        </>
      )}
      {state === "unmeasured" && <circle cx="8" cy="8" r="5.5" strokeDasharray="1.6 2" />}
    </>
  );
}

/** StateMark tells a path's state by shape, colour and word. */
export function StateMark({ state }: { state: string }) {
  return (
    <span className={"whitespace-nowrap " + inks[state]}>
      <svg viewBox="0 0 16 16" className="mr-2 inline size-4 align-[-0.15em]" aria-hidden="true" fill="none" stroke="currentColor" strokeWidth="1.5">
        <StateShape state={state} />
      </svg>
      <span>{words[state] ?? state}</span>
    </span>
  );
}
