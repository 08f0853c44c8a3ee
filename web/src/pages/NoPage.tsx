import { Link } from "react-router";

export function NoPage() {
  return (
    <section className="py-16">
      <h1 className="text-2xl">There is no such page</h1>
      <p className="mt-2">
        <Link to="/" className="underline underline-offset-4">
          Go to the paths
        </Link>
      </p>
    </section>
  );
}
