import type { IntakeDraft } from "../data/intakeDraft";
import { sameSerial } from "../data/intakeDraft";
import type { Bay } from "../data/types";
import { NotAvailable, Table } from "./basics";
import { bayWords, capital, hours, parts, size } from "./format";
import { VerdictWord } from "./marks";

const lockedBy = { password: "a password", encryption: "its own encryption", refuses: "something it does not name" } as const;

/** What label and drive say, beside each other. */
export function Answers({ bay, draft }: { bay?: Bay; draft: IntakeDraft }) {
  const d = bay?.drive;
  if (!bay) return <p>Choose its bay, or scan the label: a drive that answers is found by its serial.</p>;
  if (!d)
    return (
      <p>
        {capital(bayWords(bay.name))}: {bay.doing.words} The intake waits for it, and its number is the drive's handle until it names
        itself.
      </p>
    );
  const same = draft.serial === "" ? undefined : sameSerial(draft.serial, d.serial);
  const [before, ending] = parts(d.serial);
  return (
    <>
      <div className="q">
        <Table>
          <thead>
            <tr>
              <td />
              <th>label says</th>
              <th>drive says</th>
              <td />
            </tr>
          </thead>
          <tbody>
            <tr>
              <td className="soft">serial</td>
              <td>{draft.serial || <span className="soft">not scanned</span>}</td>
              <td>
                {before} {ending}
              </td>
              <td className={same === false ? "num differs" : "num soft"}>{same === undefined ? "" : same ? "same" : "differs"}</td>
            </tr>
            <tr>
              <td className="soft">model</td>
              <td className="soft">compare</td>
              <td>{d.model}</td>
              <td />
            </tr>
            <tr>
              <td className="soft">size</td>
              <td className="soft">compare</td>
              <td>{d.bytes ? size(d.bytes) : <NotAvailable />}</td>
              <td className="num differs">{d.shown ? `adapter shows ${size(d.shown)}` : ""}</td>
            </tr>
            <tr>
              <td className="soft">link</td>
              <td className="soft">not on it</td>
              <td>{d.link_now ? `${d.link_now} of ${d.link_possible ?? "unknown"}` : <NotAvailable />}</td>
              <td className="num differs">{d.link_now && d.link_possible && d.link_now !== d.link_possible ? "slower" : ""}</td>
            </tr>
          </tbody>
        </Table>
      </div>
      <div className="q">
        <dl>
          <dt>seen before</dt>
          <dd>{d.readings > 1 ? `Yes, ${d.readings} readings. Its history goes on.` : "No, first visit"}</dd>
          <dt>stands</dt>
          <dd>
            <VerdictWord grade={d.grade} />
          </dd>
          <dt>security</dt>
          <dd>
            {d.security.locked
              ? `Locked by ${lockedBy[d.security.by ?? "password"]}`
              : d.security.supported
                ? "Supported, not locked"
                : "Not supported"}
          </dd>
          <dt>powered on</dt>
          <dd>{d.hours === undefined ? <NotAvailable /> : hours(d.hours)}</dd>
          <dt>first look</dt>
          <dd>{d.headline ?? "nothing yet"}</dd>
        </dl>
      </div>
    </>
  );
}

/** What happens once it is taken in. */
export function Follows({ draft, bay }: { draft: IntakeDraft; bay?: Bay }) {
  if (draft.noise === "clicks")
    return (
      <dl>
        <dt>now</dt>
        <dd>Nothing is tried. It clicks: every attempt may cost what is left of it.</dd>
      </dl>
    );
  const risk = draft.wanted && !draft.copied;
  return (
    <dl>
      <dt>now</dt>
      <dd>{risk ? `Nothing starts. ${bay ? capital(bayWords(bay.name)) : "Its bay"} shows Record copy.` : "Nothing starts by itself."}</dd>
      <dt>{risk ? "after the copy" : "then"}</dt>
      <dd>Quick check, minutes</dd>
      <dt>after that</dt>
      <dd>Extended check, hours</dd>
    </dl>
  );
}
