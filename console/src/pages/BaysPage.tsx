import styled from "styled-components";
import { useOrders } from "../data/orders";
import { usePerson } from "../data/person";
import { useBays, useService } from "../data/queries";
import { BayList } from "../parts/BayList";
import { State, Wrong } from "../parts/basics";
import { color, text } from "../theme/tokens";
import { useActions } from "./Shell";

const Head = styled.section`
  min-height: 64px; border-bottom: 1px solid ${color.rule}; padding: 8px 24px; display: flex; align-items: baseline; gap: 16px;
  flex-wrap: wrap;
  & h1 { ${text.title} } & p { color: ${color.ink2}; }
`;
const Body = styled.div`padding: 16px 24px 40px; display: grid; gap: 8px; & h2 { ${text.large} margin-top: 8px; }`;

/** What the shop makes of its bays: their order, numbers and labels, and which are shown. */
export default function BaysPage() {
  const bays = useBays();
  const benches = useService().data?.benches;
  const orders = useOrders(usePerson().name);
  const { asPerson } = useActions();
  if (bays.isError && !bays.data) return <Wrong error={bays.error} retry={() => bays.refetch()} />;
  if (!bays.data || !benches) return <State title="Looking at the benches" />;
  return (
    <>
      <title>Bays · Hylostat</title>
      <Head>
        <h1>Bays</h1>
        <p>
          Drag a row, or press Enter on its handle and use the arrow keys. A number that is taken is exchanged. Records keep the number of
          their day.
        </p>
      </Head>
      <Body>
        {benches.map((bench) => (
          <section key={bench.name} aria-label={bench.title}>
            <h2>{bench.title}</h2>
            <BayList
              title={bench.title}
              bays={bays.data.filter((b) => b.bench === bench.name)}
              set={(bay, setting) => asPerson(() => orders.setBay.mutate({ bay, ...setting }))}
              arrange={(order) => asPerson(() => orders.arrange.mutate(order))}
            />
          </section>
        ))}
      </Body>
    </>
  );
}
