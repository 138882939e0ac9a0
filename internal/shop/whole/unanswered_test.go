package whole_test

import (
	"testing"
	"testing/synctest"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"hylostat.example/internal/core/drive"
	"hylostat.example/internal/protocol"
	"hylostat.example/internal/shop"
)

// silent has a bay in which somebody says there is a drive, and none answers.
func (p *place) silent(number int) {
	p.t.Helper()
	p.bay(protocol.Bay{ID: drive.Bay{Number: number}, Connection: protocol.Silent, Attempts: 1})
}

func TestADriveUnansweredOnTwoGoodPortsIsToBeReplaced(t *testing.T) {
	t.Parallel()
	synctest.Test(t, func(t *testing.T) {
		p := open(t)
		ctx := t.Context()
		p.putIn(3, state{serial: "KVA07GOOD3", hours: 9, heat: 30}) // before: it says nothing of the port since
		p.takeOut(3)
		p.takeOut(4)
		p.silent(3)
		p.clock.at = p.clock.at.Add(time.Minute)
		l, err := p.OpenLot(ctx, who("Dov"), shop.Lot{})
		require.NoError(t, err)
		i, err := p.TakeIn(ctx, who("Dov"), shop.Intake{Bay: drive.Bay{Number: 3}, Lot: l.ID})
		require.NoError(t, err)
		_, err = p.EndLot(ctx, who("Dov"), l.ID)
		require.NoError(t, err)
		why := func() string {
			all, err := p.Intakes(ctx, shop.IntakeQuery{Lot: l.ID})
			require.NoError(t, err)
			words, err := p.Unanswered(ctx, all[0])
			require.NoError(t, err)
			return words
		}
		p.silent(4)
		_, err = p.MoveIntake(ctx, who("Dov"), i.ID, drive.Bay{Number: 4})
		require.NoError(t, err)
		assert.Empty(t, why(), "no port is known to be good yet")
		p.clock.at = p.clock.at.Add(time.Minute)
		p.putIn(3, state{serial: "KVA07GOOD3", hours: 9, heat: 30})
		assert.Empty(t, why(), "one good port is not two")
		p.takeOut(4) // somebody says that there is no drive in it after all
		p.putIn(4, state{serial: "KVA07GOOD4", hours: 9, heat: 30})
		assert.Equal(t, "It did not answer on bay 3 and bay 4, on each of which another drive answered afterwards", why())
		v, err := p.LotByID(ctx, l.ID)
		require.NoError(t, err)
		assert.Equal(t, map[drive.Grade]int{drive.Replace: 1}, v.Count)

		_, err = p.HandOver(ctx, who("Dov"), i.ID, shop.Handover{Goes: shop.Scrapped})
		require.NoError(t, err)
		_, err = p.MoveIntake(ctx, who("Dov"), i.ID, drive.Bay{Number: 3})
		assert.ErrorAs(t, err, new(*shop.Conflict))
		clicking, err := p.TakeIn(ctx, who("Dov"), shop.Intake{Bay: drive.Bay{Number: 3}, Clicks: true})
		require.NoError(t, err)
		_, err = p.MoveIntake(ctx, who("Dov"), clicking.ID, drive.Bay{Number: 4})
		assert.ErrorAs(t, err, new(*shop.Conflict), "one that clicks, or has named itself, is not moved")
	})
}
