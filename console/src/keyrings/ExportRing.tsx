import { key } from "../parts/keys";
import { useQuery } from "@tanstack/react-query";
import { exportEntries } from "./queries";
import { Broken, Loading } from "../parts/states";
import { primary } from "../parts/styles";

// A keyring as an htpasswd file, and what such a file cannot hold.
export function ExportRing({ ring }: { ring: string }) {
  const file = useQuery({ queryKey: key("export", ring), queryFn: () => exportEntries(ring), gcTime: 0 });
  if (file.isPending) return <Loading what="the file" />;
  if (file.error) return <Broken what="file" error={file.error} retry={() => file.refetch()} />;
  const { file: text, left } = file.data;
  const count = text.split("\n").length - 1;
  return (
    <div className="flex flex-col gap-4">
      <p>
        {count === 0
          ? "None of the names can be written to an htpasswd file."
          : `${count} ${count === 1 ? "name" : "names"} can be written, with ${count === 1 ? "its hash" : "their hashes"}. ` +
            "Protect this file like the passwords themselves."}
      </p>
      {count > 0 && (
        <div>
          <a
            className={`${primary} inline-block`}
            href={`data:text/plain;charset=utf-8,${encodeURIComponent(text)}`}
            download={`${ring}.htpasswd`}
          >
            Save {ring}.htpasswd
          </a>
        </div>
      )}
      {left.length > 0 && (
        <section>
          <h3 className="mb-1 font-bold">Left out</h3>
          <ul>
            {left.map((l) => (
              <li key={l.name} className="border-b border-line py-1.5">
                <strong className="wrap-anywhere">{l.name}</strong> <span className="text-soft">{l.detail}</span>
              </li>
            ))}
          </ul>
        </section>
      )}
    </div>
  );
}
