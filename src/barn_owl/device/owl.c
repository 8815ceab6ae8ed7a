/* See owl.h. Made by Barn Owl from a trained model. */
#include "owl.h"

#include <math.h>
#include <string.h>

enum { CONVOLUTION, DEPTHWISE, MAXIMUM, MEAN, RESIDUAL };

/* What one stage of a network does; sizes are those of one step in time. */
typedef struct {
    int16_t kind, bands, channels, bands_out, channels_out;
    int16_t taps, band_taps, stride, band_stride, dilation, before, rectifies;
    int16_t span;   /* steps of its input that it keeps */
    int16_t inner;  /* stages inside, which stand before it */
    int32_t kernel, bias; /* where its numbers begin */
    int32_t ring, out;    /* where its input and its output lie in memory */
#if OWL_INT8
    int32_t scale;        /* where its multipliers begin */
    int16_t zero_in, zero_out;
    int32_t reach;        /* values that a sum looks at */
#endif
} owl_stage;

@DATA@

/* --- from samples to levels ------------------------------------------------------------------------------------- */

/* Discrete Fourier transform of `n` complex numbers that lie `apart` from each other, any length, factor by factor. */
static void transform(const float *in, float *out, int n, int apart)
{
    int radix = n % 4 ? 2 : 4, part, k, j;
    if (n == 1) {
        out[0] = in[0];
        out[1] = in[1];
        return;
    }
    while (n % radix)
        radix++;
    part = n / radix;
    for (j = 0; j < radix; j++) {
        if (part > 1)
            transform(in + 2 * j * apart, out + 2 * j * part, part, apart * radix);
        else {
            out[2 * j] = in[2 * j * apart];
            out[2 * j + 1] = in[2 * j * apart + 1];
        }
    }
    if (radix == 4) {
        float *a = out, *b = a + 2 * part, *c = b + 2 * part, *d = c + 2 * part;
        for (k = 0; k < 2 * part; k += 2) {
            const float *u = owl_turns + k * apart, *v = u + k * apart, *w = v + k * apart;
            const float br = b[k] * u[0] - b[k + 1] * u[1], bi = b[k] * u[1] + b[k + 1] * u[0];
            const float cr = c[k] * v[0] - c[k + 1] * v[1], ci = c[k] * v[1] + c[k + 1] * v[0];
            const float dr = d[k] * w[0] - d[k + 1] * w[1], di = d[k] * w[1] + d[k + 1] * w[0];
            const float sr = a[k] + cr, si = a[k + 1] + ci, tr = a[k] - cr, ti = a[k + 1] - ci;
            a[k] = sr + (br + dr);
            a[k + 1] = si + (bi + di);
            b[k] = tr + (bi - di);
            b[k + 1] = ti - (br - dr);
            c[k] = sr - (br + dr);
            c[k + 1] = si - (bi + di);
            d[k] = tr - (bi - di);
            d[k + 1] = ti + (br - dr);
        }
        return;
    }
    for (k = 0; k < part; k++) {
        float real[OWL_RADIX], imaginary[OWL_RADIX];
        for (j = 0; j < radix; j++) {
            const float *turn = owl_turns + 2 * (j * k * apart);
            const float *x = out + 2 * (j * part + k);
            real[j] = x[0] * turn[0] - x[1] * turn[1];
            imaginary[j] = x[0] * turn[1] + x[1] * turn[0];
        }
        for (j = 0; j < radix; j++) {
            float *x = out + 2 * (j * part + k);
            int m;
            x[0] = x[1] = 0;
            for (m = 0; m < radix; m++) {
                const float *turn = owl_turns + 2 * ((int32_t)(j * m % radix) * part * apart);
                x[0] += real[m] * turn[0] - imaginary[m] * turn[1];
                x[1] += real[m] * turn[1] + imaginary[m] * turn[0];
            }
        }
    }
}

void owl_frame(owl *o, const float *samples, float *frame)
{
    float *packed = o->fft, *found = o->fft + OWL_FFT;
    int n, k, band;
    /* Even samples are taken for the real, odd ones for the imaginary parts: half the work of a transform of reals. */
    for (n = 0; n < OWL_FFT; n++)
        packed[n] = n < OWL_FRAME ? samples[n] * owl_window[n] : 0.0f;
    transform(packed, found, OWL_FFT / 2, 1);
    for (k = 0; k <= OWL_FFT / 2; k++) {
        const float *a = found + 2 * (k % (OWL_FFT / 2));
        const float *b = found + 2 * ((OWL_FFT / 2 - k) % (OWL_FFT / 2));
        const float *turn = owl_half_turns + 2 * k;
        float even_real = 0.5f * (a[0] + b[0]), even_imaginary = 0.5f * (a[1] - b[1]);
        float odd_real = 0.5f * (a[1] + b[1]), odd_imaginary = 0.5f * (b[0] - a[0]);
        float real = even_real + odd_real * turn[0] - odd_imaginary * turn[1];
        float imaginary = even_imaginary + odd_real * turn[1] + odd_imaginary * turn[0];
        packed[k] = real * real + imaginary * imaginary;
    }
    for (band = 0; band < OWL_BANDS; band++) {
        const float *weight = owl_mel + owl_mel_at[band];
        float power = 0;
        for (k = 0; k < owl_mel_count[band]; k++)
            power += packed[owl_mel_first[band] + k] * weight[k];
        frame[band] = 10.0f * log10f(power + OWL_FLOOR);
    }
#if OWL_HAS_RANGE
    {
        float top = frame[0];
        for (band = 1; band < OWL_BANDS; band++)
            top = frame[band] > top ? frame[band] : top;
        for (band = 0; band < OWL_BANDS; band++)
            frame[band] = frame[band] > top - OWL_RANGE_DB ? frame[band] : top - OWL_RANGE_DB;
    }
#endif
}

/* Gives a value the form that the networks work on. */
static owl_value as_value(float x)
{
#if OWL_INT8
    float q = floorf(x * OWL_INPUT_STEPS + 0.5f) + OWL_INPUT_ZERO;
    return (owl_value)(q < -128.0f ? -128.0f : q > 127.0f ? 127.0f : q);
#else
    return x;
#endif
}

/* Levels relative to the mean power around them, of the frame in the middle; returns whether there are enough frames. */
static int relative_level(owl *o, const float *frame)
{
    int band;
#if OWL_LEVEL_SPAN
    float *power = o->power + (o->frames % OWL_LEVEL_SPAN) * OWL_BANDS, total = 0, mean = 0;
    int i;
    for (band = 0; band < OWL_BANDS; band++) {
        power[band] = expf((frame[band] - owl_mean[band]) / owl_deviation[band] * 0.23025851f);
        total += power[band];
    }
    o->mean[o->frames % OWL_LEVEL_SPAN] = total / OWL_BANDS;
    o->frames++;
    if (o->frames < OWL_LEVEL_SPAN)
        return 0;
    if (o->frames == 2 * OWL_LEVEL_SPAN) /* counted no further than needed */
        o->frames -= OWL_LEVEL_SPAN;
    for (i = 0; i < OWL_LEVEL_SPAN; i++)
        mean += o->mean[i];
    mean = mean / OWL_LEVEL_SPAN + 1e-20f;
    power = o->power + ((o->frames + (OWL_LEVEL_SPAN - 1) / 2) % OWL_LEVEL_SPAN) * OWL_BANDS;
    for (band = 0; band < OWL_BANDS; band++)
        o->level[band] = as_value(log10f(power[band] / mean + OWL_LEVEL_LEAST) * (10.0f / 15.0f) + 1.0f);
#else
    for (band = 0; band < OWL_BANDS; band++)
        o->level[band] = as_value((frame[band] - owl_mean[band]) / owl_deviation[band]);
#endif
    return 1;
}

/* --- the networks ----------------------------------------------------------------------------------------------- */

#if OWL_INT8
static owl_value as_int8(int64_t x)
{
    return (owl_value)(x < -128 ? -128 : x > 127 ? 127 : x);
}

/* x / 2^shift, rounded to the nearest, halves up. A shift of negative numbers is not defined in C, so that 2^62, which
 * is more than any x, is added before and taken off behind. */
static int64_t shifted(int64_t x, int shift)
{
    uint64_t above = (uint64_t)(x + ((int64_t)1 << (shift - 1)) + ((int64_t)1 << 62));
    return (int64_t)(above >> shift) - ((int64_t)1 << (62 - shift));
}
#endif

/* The step of the input that was given `back` steps ago. */
static const owl_value *step_back(const owl *o, int s, int32_t back)
{
    const owl_stage *stage = owl_stages + s;
    return o->memory + stage->ring + ((o->seen[s] - 1 - back) % stage->span) * stage->bands * stage->channels;
}

/* Steps that a stage meets, one for each tap in time. */
static void gather(const owl *o, int s, const owl_value *in, const owl_value **steps)
{
    const owl_stage *stage = owl_stages + s;
    int tap;
    for (tap = 0; tap < stage->taps; tap++)
        steps[tap] = stage->span > 1 ? step_back(o, s, (stage->taps - 1 - tap) * stage->dilation) : in;
}

#if OWL_INT8
typedef int32_t owl_sum;
#define OWL_NUMBER(stage, c) owl_biases[(stage)->bias + (c)]
#define ZERO_IN stage->zero_in

/* Values of 16 bits, as what is multiplied in pairs must be, times weights; `count` is a multiple of OWL_LANES. */
static int32_t product(const int16_t *restrict x, const int8_t *restrict weight, int count)
{
    int32_t sum = 0;
    int i, k;
    for (i = 0; i < count; i += OWL_LANES)
        for (k = 0; k < OWL_LANES; k++)
            sum += x[i + k] * weight[i + k];
    return sum;
}

/* Sums as whole numbers of 8 bits: times a multiplier of each channel, a power of 2 lower. */
static void round_off(const owl_stage *stage, const owl_sum *restrict sums, owl_value *restrict out)
{
    const int32_t *restrict scale = owl_scales + 2 * stage->scale;
    const int zero = stage->zero_out, count = stage->channels_out;
    int c;
    for (c = 0; c < count; c++)
        out[c] = as_int8(shifted((int64_t)sums[c] * scale[2 * c], scale[2 * c + 1]) + zero);
}

/* All that the sums of a band look at, `low` to `high` in bands, as one row. Weights lie by channel out, tap in time,
 * tap in bands, channel in, zeros up to a multiple of OWL_LANES, so that each sum is the product of two rows. */
static void add_up(const owl_stage *stage, const owl_value **steps, int first, int low, int high, owl_sum *sums)
{
    int16_t met[OWL_REACH];
    const int channels = stage->channels, reach = stage->reach;
    int tap, i, c, n = 0;
    for (tap = 0; tap < stage->taps; tap++) {
        const owl_value *x = steps[tap] + (first + low) * channels;
        for (i = 0; i < low * channels; i++)
            met[n++] = 0;
        for (i = 0; i < (high - low) * channels; i++)
            met[n++] = (int16_t)(x[i] - ZERO_IN);
        for (i = high * channels; i < stage->band_taps * channels; i++)
            met[n++] = 0;
    }
    while (n < reach)
        met[n++] = 0;
    for (c = 0; c < stage->channels_out; c++)
        sums[c] += product(met, owl_weights + stage->kernel + (int32_t)c * reach, reach);
}
#else
typedef float owl_sum;
#define OWL_NUMBER(stage, c) owl_weights[(stage)->bias + (c)]
#define ZERO_IN 0

/* Adds values times rows of weights, four at a time: sums are loaded and stored that much less often. */
static void add_rows(float *restrict sums, const float *restrict weight, const float *restrict x, int rows, int count)
{
    int i = 0, c;
    for (; i + 3 < rows; i += 4, weight += 4 * count) {
        const float *b = weight + count, *d = b + count, *e = d + count;
        for (c = 0; c < count; c++)
            sums[c] += x[i] * weight[c] + x[i + 1] * b[c] + x[i + 2] * d[c] + x[i + 3] * e[c];
    }
    for (; i < rows; i++, weight += count)
        for (c = 0; c < count && x[i] != 0; c++)
            sums[c] += x[i] * weight[c];
}

/* The same in floats. Weights lie by tap in time, tap in bands, channel in, channel out, so that a value is added to
 * all sums at once. */
static void add_up(const owl_stage *stage, const owl_value **steps, int first, int low, int high, owl_sum *sums)
{
    const int channels = stage->channels, count = stage->channels_out;
    int tap;
    for (tap = 0; tap < stage->taps; tap++) {
        const float *weight = owl_weights + stage->kernel + (tap * stage->band_taps + low) * channels * count;
        add_rows(sums, weight, steps[tap] + (first + low) * channels, (high - low) * channels, count);
    }
}
#endif

static void convolve(const owl *o, int s, const owl_value *in, owl_value *out, float *logits)
{
    const owl_stage *stage = owl_stages + s;
    const owl_value *steps[OWL_TAPS];
    const int channels = stage->channels, channels_out = stage->channels_out;
    int band, c, tap, t;
    gather(o, s, in, steps);
    for (band = 0; band < stage->bands_out; band++) {
        owl_sum sums[OWL_CHANNELS];
        /* Nothing is there below the lowest band and above the highest. */
        int first = band * stage->band_stride - stage->before;
        int low = first < 0 ? -first : 0;
        int high = first + stage->band_taps > stage->bands ? stage->bands - first : stage->band_taps;
        for (c = 0; c < channels_out; c++)
            sums[c] = OWL_NUMBER(stage, c);
        if (stage->kind != DEPTHWISE)
            add_up(stage, steps, first, low, high, sums);
        for (tap = 0; stage->kind == DEPTHWISE && tap < stage->taps; tap++) {
            const owl_value *x = steps[tap] + (first + low) * channels, *weight = owl_weights + stage->kernel;
            weight += (tap * stage->band_taps + low) * channels;
            for (t = low; t < high; t++, x += channels, weight += channels)
                for (c = 0; c < channels; c++)
                    sums[c] += (x[c] - ZERO_IN) * weight[c];
        }
#if OWL_INT8
        for (c = 0; logits && c < channels_out; c++)
            logits[c] = (float)sums[c] * owl_logit_steps[stage->scale + c];
        if (!logits)
            round_off(stage, sums, out + band * channels_out);
#else
        for (c = 0; c < channels_out; c++) {
            float y = stage->rectifies && sums[c] < 0 ? 0 : sums[c];
            if (logits)
                logits[c] = y;
            else
                out[band * channels_out + c] = y;
        }
#endif
    }
}

static void pool(const owl *o, int s, const owl_value *in, owl_value *out)
{
    const owl_stage *stage = owl_stages + s;
    int band, c, tap, t;
    for (band = 0; band < stage->bands_out; band++)
        for (c = 0; c < stage->channels; c++) {
#if OWL_INT8
            int32_t found = stage->kind == MEAN ? 0 : -128, count = stage->taps * stage->band_taps;
#else
            float found = stage->kind == MEAN ? 0 : -INFINITY, count = (float)(stage->taps * stage->band_taps);
#endif
            for (tap = 0; tap < stage->taps; tap++) {
                const owl_value *step = stage->span > 1 ? step_back(o, s, stage->taps - 1 - tap) : in;
                for (t = 0; t < stage->band_taps; t++) {
                    owl_value x = step[(band * stage->band_stride + t) * stage->channels + c];
                    found = stage->kind == MEAN ? found + x : x > found ? x : found;
                }
            }
#if OWL_INT8
            if (stage->kind == MEAN) { /* to the nearest, halves up */
                int32_t twice = 2 * found + count + 256 * count;
                found = twice / (2 * count) - 128;
            }
            if (stage->rectifies && found < stage->zero_in)
                found = stage->zero_in;
#else
            found = stage->kind == MEAN ? found / count : found;
            found = stage->rectifies && found < 0 ? 0 : found;
#endif
            out[band * stage->channels_out + c] = (owl_value)found;
        }
}

/* Adds the step in the middle of a residual stage's input to what the stages inside made of it. */
static void add(const owl *o, int s, const owl_value *in, const owl_value *made, owl_value *out)
{
    const owl_stage *stage = owl_stages + s;
    const owl_value *x = stage->span > 1 ? step_back(o, s, stage->span - 1 - (stage->span - 1) / 2) : in;
    int i;
#if OWL_INT8
    const int32_t *scale = owl_scales + 2 * stage->scale; /* multipliers of both, and the zero of what was made */
    for (i = 0; i < stage->bands * stage->channels; i++) {
        int64_t y = (int64_t)(made[i] - scale[2]) * scale[0] + (int64_t)(x[i] - stage->zero_in) * scale[1];
        out[i] = as_int8(shifted(y, OWL_SUM_SHIFT) + stage->zero_out);
    }
#else
    for (i = 0; i < stage->bands * stage->channels; i++) {
        float y = made[i] + x[i];
        out[i] = stage->rectifies && y < 0 ? 0 : y;
    }
#endif
}

/* Gives a step to the stages from `s` to `end`, the last of which gives `logits` where those are wanted. Returns what
 * comes out, or NULL while there is nothing. */
static const owl_value *go_on(owl *o, int s, int end, const owl_value *in, float *logits)
{
    while (s < end) {
        const owl_stage *stage = owl_stages + s;
        int size = stage->bands * stage->channels, next = s + 1 + stage->inner;
        owl_value *out = o->memory + stage->out;
        const owl_value *made = in;
        if (stage->span > 1)
            memcpy(o->memory + stage->ring + (o->seen[s] % stage->span) * size, in, size * sizeof(owl_value));
        o->seen[s]++;
        if (stage->kind == RESIDUAL)
            made = go_on(o, s + 1, next, in, NULL);
        if (!made || o->seen[s] < stage->span || (o->seen[s] - stage->span) % stage->stride)
            return NULL;
        if (stage->kind == RESIDUAL)
            add(o, s, in, made, out);
        else if (stage->kind == MAXIMUM || stage->kind == MEAN)
            pool(o, s, in, out);
        else
            convolve(o, s, in, out, next == end ? logits : NULL);
        /* Counted no further than needed, so that it never overflows. */
        if (o->seen[s] == stage->span * (1 + stage->stride))
            o->seen[s] -= stage->span * stage->stride;
        in = out;
        s = next;
    }
    return in;
}

int owl_push_frame(owl *o, const float *frame)
{
    float logits[OWL_OUTPUTS];
    int network, i, is_step = 0;
    if (!relative_level(o, frame))
        return 0;
    for (i = 0; i < OWL_OUTPUTS; i++)
        o->logits[i] = 0;
    for (network = 0; network < OWL_NETWORKS; network++) {
        is_step = go_on(o, owl_first[network], owl_first[network + 1], o->level, logits) != NULL;
        for (i = 0; is_step && i < OWL_OUTPUTS; i++)
            o->logits[i] += logits[i];
    }
    for (i = 0; i < OWL_OUTPUTS; i++)
        o->logits[i] /= OWL_NETWORKS;
    for (i = 0; is_step && i < OWL_TRACKS; i++) {
        o->activity[i] = 1.0f / (1.0f + expf(-o->logits[i]));
        o->onsets[i] = 1.0f / (1.0f + expf(-o->logits[OWL_TRACKS + i]));
    }
    for (i = 0; is_step && i < OWL_LABELS + 2; i++)
        o->label_logits[i] = o->logits[2 * OWL_TRACKS + i];
    return is_step;
}

/* --- from outside ----------------------------------------------------------------------------------------------- */

void owl_start(owl *o)
{
    memset(o, 0, sizeof *o);
}

int32_t owl_push(owl *o, const float *samples, int32_t count, int *is_step)
{
    int32_t used = 0;
    *is_step = 0;
    while (used < count && !*is_step) {
        o->samples[o->filled++] = samples[used++];
        if (o->filled < OWL_FRAME)
            continue;
        owl_frame(o, o->samples, o->frame);
        memmove(o->samples, o->samples + OWL_HOP, (OWL_FRAME - OWL_HOP) * sizeof(float));
        o->filled = OWL_FRAME - OWL_HOP;
        *is_step = owl_push_frame(o, o->frame);
    }
    return used;
}
