import { Fragment } from "react";
import { Link } from "react-router";
import type { Fault, Reading, SelfTest, SweepSummary } from "../data/types";
import { NotAvailable, Scroll, Section, Table } from "./basics";
import { momentOf, number, share } from "./format";
import { type Place, Plain } from "./places";

type Follow = (place: Place) => void;

/** The drive's own self-test log. Its hours lead to the bytes. */
export function SelfTests({ tests, fault, follow }: { tests: SelfTest[]; fault?: Fault; follow: Follow }) {
  return (
    <Section>
      <header>
        <h2>Self-tests</h2>
        <p>{fault ? "" : `${tests.length} in the drive’s log`}</p>
      </header>
      {fault ? (
        <p>
          <NotAvailable reason={`${fault.back}. ${fault.advice}`} />
        </p>
      ) : tests.length === 0 ? (
        <p>None was ever run. An empty slot is no pass.</p>
      ) : (
        <Scroll>
          <Table>
            <thead>
              <tr>
                <th className="num">at</th>
                <th>kind</th>
                <th>result</th>
                <th className="num">first failing LBA</th>
              </tr>
            </thead>
            <tbody>
              {tests.map((t) => (
                <tr key={t.offset}>
                  <td className="num">
                    <Plain type="button" onClick={() => follow(t)}>
                      {number(t.hours)} h{t.or_more && " or more"}
                    </Plain>
                  </td>
                  <td>{t.kind}</td>
                  <td>{t.failed ? <b>{t.result}</b> : t.result}</td>
                  <td className="num">{t.lba === undefined ? <span className="soft">none</span> : number(t.lba)}</td>
                </tr>
              ))}
            </tbody>
          </Table>
        </Scroll>
      )}
    </Section>
  );
}

/** The sweeps of a drive that ended. Each leads to its ribbon. */
export function Sweeps({ sweeps }: { sweeps: SweepSummary[] }) {
  return (
    <Section>
      <header>
        <h2>Sweeps</h2>
        <p>{sweeps.length > 0 && `${sweeps.length}, newest first`}</p>
      </header>
      {sweeps.length === 0 ? (
        <p>None yet. A quick check sweeps a sample of the surface, an extended check all of it.</p>
      ) : (
        <Scroll>
          <Table>
            <thead>
              <tr>
                <th>ended</th>
                <th>kind</th>
                <th>found</th>
                <th className="num">swept</th>
              </tr>
            </thead>
            <tbody>
              {sweeps.map((s) => (
                <tr key={s.run}>
                  <td className="whole">
                    <Link to={`/runs/${s.run}`}>{s.ended ? momentOf(s.ended) : "goes on"}</Link>
                  </td>
                  <td>{s.title.toLowerCase()}</td>
                  <td>{s.standing.words.map((w) => w.words).join(" ")}</td>
                  <td className="num">{share(s.standing.share)}</td>
                </tr>
              ))}
            </tbody>
          </Table>
        </Scroll>
      )}
    </Section>
  );
}

/** The errors a drive remembers, each with the commands before it. */
export function LoggedErrors({ reading, follow }: { reading: Reading; follow: Follow }) {
  if (reading.error_total === undefined || reading.error_total === 0) return null;
  return (
    <Section>
      <header>
        <h2>Errors in the drive’s log</h2>
        <p>
          {number(reading.error_total)} in its life, {reading.errors.length} kept
        </p>
      </header>
      <Scroll>
        <Table>
          <thead>
            <tr>
              <th className="num">at</th>
              <th>command that failed</th>
              <th>what came back</th>
              <th className="num">LBA</th>
            </tr>
          </thead>
          <tbody>
            {reading.errors.map((e) => (
              <Fragment key={`${e.page} ${e.offset}`}>
                <tr>
                  <td className="num">{e.hours === undefined ? <NotAvailable /> : `${number(e.hours)} h`}</td>
                  <td>
                    <Plain type="button" onClick={() => follow(e)}>
                      {e.command}
                    </Plain>
                  </td>
                  <td>
                    {e.meaning}
                    {e.state && `, ${e.state}`}
                    {e.host && <span className="soft"> · the host’s doing</span>}
                  </td>
                  <td className="num">{e.lba === undefined ? <span className="soft">none</span> : number(e.lba)}</td>
                </tr>
                {e.before.length > 1 && (
                  <tr>
                    <td />
                    <td colSpan={3} className="soft small">
                      before it: {e.before.slice(0, -1).join("; ")}
                    </td>
                  </tr>
                )}
              </Fragment>
            ))}
          </tbody>
        </Table>
      </Scroll>
    </Section>
  );
}
