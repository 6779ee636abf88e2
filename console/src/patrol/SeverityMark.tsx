// How bad something is, with its own shape.
export function SeverityMark({ severity }: { severity: string }) {
  const bad = severity === "error";
  return (
    <span className={bad ? "text-bad" : "text-ask"}>
      <span aria-hidden="true" className="mr-1">
        {bad ? "■" : "▲"}
      </span>
      {severity}
    </span>
  );
}
