package quantity

import (
	"testing"

	"github.com/stretchr/testify/assert"
)

func TestNumbersAreWrittenWithTheirThousandsApart(t *testing.T) {
	for x, want := range map[float64]string{0: "0", 999: "999", 1000: "1\u00a0000", 20512: "20\u00a0512", -1234567: "-1\u00a0234\u00a0567", 41.26: "41.3", 1999.97: "2\u00a0000", -0.04: "0"} {
		assert.Equal(t, want, Number(x))
	}
}

func TestQuantitiesHaveTheirUnits(t *testing.T) {
	assert.Equal(t, "18.4 TB", Of(18.42e12, "B"))
	assert.Equal(t, "512 B", Of(512, "B"))
	assert.Equal(t, "20\u00a0512 h", Of(20512, "h"))
	assert.Equal(t, "3", Of(3, ""))
}

func TestAPaceIsToldOverSixtyDaysAndCutDown(t *testing.T) {
	for day, want := range map[float64]string{0: "", 0.0016: "", 0.0017: "0.1 events or more in 60 days", 1.0 / 59: "1 event or more in 60 days", 0.0999: "5.9 events or more in 60 days"} {
		assert.Equal(t, want, Pace(day), day)
	}
}
