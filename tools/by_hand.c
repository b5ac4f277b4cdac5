/* The loop engineers write by hand: circular history, wrap test inside, 16-bit data and coefficients, 64-bit sum. */
#include "calls.h"

#include <string.h>

static const int16_t taps[@COUNT@] = { @TAPS@ };

void calls_reset(calls_state_t *state)
{
    memset(state, 0, sizeof *state);
}

size_t calls_run(calls_state_t *state, const calls_in_t *x, calls_out_t *y, size_t count)
{
    size_t n, i;

    for (n = 0; n < count; n++) {
        int64_t sum = 0;
        size_t at = state->at;

        state->history[at] = x[n];
        for (i = 0; i < @COUNT@u; i++) {
            sum += (int64_t)taps[i] * state->history[at];
            if (at == 0u) {
                at = @COUNT@u;
            }
            at--;
        }
        if (++state->at == @COUNT@u) {
            state->at = 0;
        }
        sum = (sum + (INT64_C(1) << (@SHIFT@ - 1))) >> @SHIFT@;
        y[n] = (int16_t)(sum > 32767 ? 32767 : sum < -32768 ? -32768 : sum);
    }
    return count;
}
