import { useState } from "react";
import { Link, useNavigate } from "react-router";
import styled from "styled-components";
import { useDesk } from "../data/orders";
import { usePerson } from "../data/person";
import { useLots } from "../data/queries";
import { Button, Scroll, State, Table, Wrong } from "../parts/basics";
import { LotDialog } from "../parts/DeskDialogs";
import { dateOf, number } from "../parts/format";
import { color, px, text } from "../theme/tokens";
import { useActions } from "./Shell";

const Head = styled.section`
  min-height: 64px; border-bottom: 1px solid ${color.rule}; padding: 8px 24px; display: flex; align-items: center; gap: 16px;
  flex-wrap: wrap;
  & h1 { ${text.title} } & p { color: ${color.ink2}; } & .push { margin-left: auto; }
`;
const Body = styled.div`
  padding: 8px 24px 40px;
  & tbody tr { position: relative; cursor: pointer; } & tbody tr:hover { background: ${color.well}; }
  & a { text-decoration: none; font-size: ${px.large}; font-weight: 600; } & a::after { content: ""; position: absolute; inset: 0; }
`;

/** All lots, and the place where one is opened. */
export default function LotsPage() {
  const lots = useLots();
  const desk = useDesk(usePerson().name);
  const { asPerson } = useActions();
  const [opening, open] = useState(false);
  const go = useNavigate();
  if (lots.isError && !lots.data) return <Wrong error={lots.error} retry={() => lots.refetch()} />;
  if (!lots.data) return <State title="Fetching the lots" />;
  const current = lots.data.find((l) => l.open);
  return (
    <>
      <title>Lots · Hylostat</title>
      <Head>
        <h1>Lots</h1>
        <p>{current ? `Lot ${current.id} is open: every drive that is put in belongs to it.` : "Drives taken in together."}</p>
        {!current && (
          <Button className="push" $filled onPress={() => asPerson(() => open(true))}>
            Open a lot …
          </Button>
        )}
        {current && (
          <Button className="push" onPress={() => asPerson(() => desk.endLot.mutate(current.id))}>
            End lot {current.id}
          </Button>
        )}
      </Head>
      {lots.data.length === 0 ? (
        <State title="No lot yet">Open one before dozens of drives are put in: each is taken in on it as soon as it answers.</State>
      ) : (
        <Body>
          <Scroll>
            <Table>
              <thead>
                <tr>
                  <th>lot</th>
                  <th>opened</th>
                  <th>customer</th>
                  <th>ticket</th>
                  <th className="num">drives expected</th>
                  <th>for</th>
                  <th>how it stands</th>
                </tr>
              </thead>
              <tbody>
                {lots.data.map((l) => (
                  <tr key={l.id}>
                    <td>
                      <Link to={`/lots/${l.id}`}>{l.id}</Link>
                    </td>
                    <td>{dateOf(l.at)}</td>
                    <td>{l.customer ?? <span className="soft">not named</span>}</td>
                    <td>{l.ticket ?? ""}</td>
                    <td className="num">{l.expected === undefined ? "" : number(l.expected)}</td>
                    <td>{l.duty}</td>
                    <td>{l.ended ? `ended ${dateOf(l.ended)}` : <b>open</b>}</td>
                  </tr>
                ))}
              </tbody>
            </Table>
          </Scroll>
        </Body>
      )}
      {opening && (
        <LotDialog
          wrong={desk.openLot.error?.message}
          close={() => open(false)}
          done={(lot) => desk.openLot.mutate(lot, { onSuccess: (l) => go(`/lots/${l.id}`) })}
        />
      )}
    </>
  );
}
