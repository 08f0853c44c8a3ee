import { StrictMode, useEffect, useState } from "react";
import { createRoot } from "react-dom/client";
import { Answer, Evidence } from "../kinds/ready/Answer";
import type { Result } from "../kinds/ready/types";
import { button } from "../parts/Field";
import "../styles.css";
import { Figures } from "./Figures";
import { Refused, visit, Way, type Step } from "./measure";
import type { About, Kept } from "./types";

const way = new Way(location.pathname.replace(/\/$/, ""));

/** Visit is the page by which somebody outside measures the way to this service, in the browser. */
function Visit() {
  const [about, setAbout] = useState<About>();
  const [words, setWords] = useState("");
  const [step, setStep] = useState<Step>();
  const [kept, setKept] = useState<Kept>();
  const [trouble, setTrouble] = useState("");
  useEffect(() => {
    way.about().then(
      (a: About) => {
        document.title = `${a.title} – Woodlark`;
        setAbout(a);
      },
      (e: unknown) => setTrouble(e instanceof Refused ? e.message : "The service cannot be reached. Look whether this machine is connected."),
    );
  }, []);
  const go = async () => {
    setTrouble("");
    setKept(undefined);
    setStep({ says: "It begins", part: 0 });
    try {
      setKept(await visit(way, words, setStep));
    } catch (e) {
      setTrouble(e instanceof Refused ? e.message : "It broke off: the service could not be reached any more.");
    }
    setStep(undefined);
  };
  return (
    <main className="mx-auto max-w-5xl px-4 pb-16">
      {about && (
        <>
          <h1 className="pt-8 pb-1 text-2xl font-light md:text-3xl">{about.title}</h1>
          <p className="max-w-2xl pb-2 text-soft">
            Is this place fit for {about.says || about.need}
            {about.seats > 1 && `, ${about.seats} at once`}? This page measures the way between this browser and the service that it came from. Nothing is installed, and no permission is asked. It takes about a minute, and moves as much as the line carries for sixteen seconds.
          </p>
          {about.notes && <p className="max-w-2xl pb-2 whitespace-pre-line">{about.notes}</p>}
          {!kept && (
            <form className="border-y border-line py-4" onSubmit={(e) => { e.preventDefault(); void go(); }}>
              <label className="block pb-4">
                <span className="block pb-1 text-sm text-soft">In your own words: where is this, and what is the matter? Who sent the link reads it.</span>
                <textarea className="block w-full max-w-2xl border border-line bg-sheet p-2" rows={3} maxLength={600} value={words} onChange={(e) => setWords(e.target.value)} disabled={!!step} />
              </label>
              <button type="submit" className={button} disabled={!!step}>
                Measure
              </button>
            </form>
          )}
        </>
      )}
      {step && (
        <div role="status" className="max-w-2xl pt-5">
          <p className="figures pb-2">{step.says}</p>
          <div className="h-1.5 bg-line" aria-hidden="true">
            <div className="h-full bg-ink" style={{ width: Math.round(step.part * 100) + "%" }} />
          </div>
          <p className="pt-2 text-sm text-soft">Leave this page on top, and let nothing else use the line meanwhile.</p>
        </div>
      )}
      {trouble && (
        <p role="alert" className="mt-6 border-l-2 border-plum pl-3">
          {trouble}
        </p>
      )}
      {kept && <Shown kept={kept} again={() => setKept(undefined)} />}
    </main>
  );
}

function Shown({ kept, again }: { kept: Kept; again: () => void }) {
  const result = { found: kept.found.answer, facts: kept.found.facts } as unknown as Result;
  return (
    <section aria-label="The answer" className="pt-5">
      <Answer result={result} />
      <p className="pb-3">
        <button type="button" className={button} onClick={again}>
          Measure again
        </button>
      </p>
      <Figures found={kept.found} />
      <Evidence result={result} once />
    </section>
  );
}

createRoot(document.getElementById("root")!).render(
  <StrictMode>
    <Visit />
  </StrictMode>,
);
