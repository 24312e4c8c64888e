import { Link } from "wouter";
import { STAGES } from "./stages";
import { useJob, useStanding } from "./useJob";

/** The stages, and how much each still lacks. */
export function Rail({ stage }: { stage: string }) {
  const { id, doc } = useJob();
  const { status } = useStanding();
  return (
    <nav className="rail" aria-label="Stages">
      {STAGES.filter((s) => s.wanted(doc)).map((s) => {
        const lacks = status?.missing.filter((m) => m.stage === s.id) ?? [];
        return (
          <Link
            key={s.id}
            href={`/jobs/${id}/${s.id}${window.location.search}`}
            aria-current={s.id === stage ? "page" : undefined}
            title={lacks.map((m) => m.message).join(" ")}
          >
            {s.title}
            {lacks.length > 0 && (
              <span className="count" aria-label={`${lacks.length} missing`}>
                {lacks.length}
              </span>
            )}
          </Link>
        );
      })}
    </nav>
  );
}
