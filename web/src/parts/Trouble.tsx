import { Problem } from "../api";

/** Trouble says what went wrong while a page was read. */
export function Trouble({ error, retry }: { error: Error; retry: () => void }) {
  return (
    <div role="alert" className="my-8 border-l-2 border-plum pl-4">
      <p>{error.message}</p>
      {!(error instanceof Problem && error.status === 404) && (
        <button type="button" onClick={retry} className="mt-2 cursor-pointer underline underline-offset-4">
          Try again
        </button>
      )}
    </div>
  );
}
