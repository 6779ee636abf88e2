// What a page shows while it has nothing to show yet, or cannot.

export function Loading({ what }: { what: string }) {
  return (
    <p className="py-8 text-soft" role="status">
      Loading {what} …
    </p>
  );
}

export function Broken({ what, error, retry }: { what: string; error: Error; retry: () => void }) {
  return (
    <div role="alert" className="border-l-4 border-bad py-2 pl-4">
      <p className="font-bold">The {what} could not be loaded.</p>
      <p className="text-soft">{error.message}</p>
      <button type="button" onClick={retry} className="mt-2 cursor-pointer underline">
        Try again
      </button>
    </div>
  );
}

export function Heading({ title, children }: { title: string; children?: React.ReactNode }) {
  return (
    <div className="mb-6">
      <h1 className="text-2xl font-bold">{title}</h1>
      {children && <p className="mt-1 max-w-3xl text-soft">{children}</p>}
    </div>
  );
}
