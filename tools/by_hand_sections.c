/* Direct form I sections as engineers write them by hand: 64-bit sums, 32-bit signals, delays moved by assignments. */
#include "calls.h"

#include <string.h>

#define SECTIONS @COUNT@

static const int32_t factors[SECTIONS][5] = { @FACTORS@ };
static const int shifts[SECTIONS] = { @SHIFTS@ };

void calls_reset(calls_state_t *state)
{
    memset(state, 0, sizeof *state);
}

size_t calls_run(calls_state_t *state, const calls_in_t *x, calls_out_t *y, size_t count)
{
    size_t n;
    int k;

    for (n = 0; n < count; n++) {
        int32_t value = x[n];

        for (k = 0; k < SECTIONS; k++) {
            int32_t *d = state->delays[k];
            int64_t sum = (int64_t)factors[k][0] * value + (int64_t)factors[k][1] * d[0] + (int64_t)factors[k][2] * d[1]
                        - (int64_t)factors[k][3] * d[2] - (int64_t)factors[k][4] * d[3];

            d[1] = d[0];
            d[0] = value;
            sum = (sum + (INT64_C(1) << (shifts[k] - 1))) >> shifts[k];
            value = (int32_t)(sum > 8388607 ? 8388607 : sum < -8388608 ? -8388608 : sum);
            d[3] = d[2];
            d[2] = value;
        }
        value = (value + 64) >> 7;
        y[n] = (int16_t)(value > 32767 ? 32767 : value < -32768 ? -32768 : value);
    }
    return count;
}
