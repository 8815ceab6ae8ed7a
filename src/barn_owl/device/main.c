/* Tags a WAV file from standard input: a line an event on standard output, start_s,end_s,label,score.
 *
 *     cc -O3 -std=c99 @NAME@.c @NAME@_main.c -lm -o tag && ./tag < night.wav
 *
 * An example that runs on a computer: it keeps the scores of the whole recording to decide on them. With --sizes it says
 * what the model needs, with --logits it writes the log-odds of each step instead, with --levels what the networks are
 * given. With --decide it reads scores in place of a WAV file: for each step the floats of activity, onsets and label
 * logits.
 */
#include "@NAME@.h"

#include <math.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>

#define EVENTS 65536 /* events that are kept at most */

/* A stretch with an active label; `label` is its label after classification, -1 where it is no event. */
typedef struct {
    double start, end;
    int track, label;
    double score;
    long first, last; /* steps that it is named by */
    int is_new;       /* its onset is so clear that it is no part of what is before it */
} event;

typedef struct {
    float *values;
    long rows, room, width;
} table;

static enum { EVENTS_FOUND, LOGITS, LEVELS } shows;
static event events[EVENTS];
static long event_count;
/* Scores of what is followed: of any label together, or, where several may sound at once, of each. */
static table activity = {NULL, 0, 0, OWL_TRACKS}, onsets = {NULL, 0, 0, OWL_TRACKS}, smooth = {NULL, 0, 0, OWL_TRACKS},
             label_logits = {NULL, 0, 0, OWL_LABELS + 2};

static void fail(const char *why)
{
    fprintf(stderr, "%s\n", why);
    exit(1);
}

static void add_row(table *t, const float *row)
{
    if (t->rows == t->room) {
        t->room = t->room ? 2 * t->room : 1024;
        t->values = realloc(t->values, (size_t)(t->room * t->width) * sizeof(float));
        if (!t->values)
            fail("not enough memory");
    }
    memcpy(t->values + t->rows++ * t->width, row, (size_t)t->width * sizeof(float));
}

/* --- reading ---------------------------------------------------------------------------------------------------- */

typedef struct {
    int format, channels, bytes;
    unsigned long rate, left;
} wav;

static unsigned long number(int bytes)
{
    unsigned long value = 0;
    int i, c;
    for (i = 0; i < bytes; i++) {
        if ((c = getchar()) == EOF)
            fail("the WAV file breaks off");
        value |= (unsigned long)c << (8 * i);
    }
    return value;
}

static wav read_header(void)
{
    wav w = {0, 0, 0, 0, 0};
    if (number(4) != 0x46464952 || (number(4), number(4)) != 0x45564157)
        fail("standard input is no WAV file");
    for (;;) {
        unsigned long name = number(4), size = number(4), read = 0;
        if (name == 0x61746164) {
            w.left = size;
            break;
        }
        if (name == 0x20746d66) {
            w.format = (int)number(2), w.channels = (int)number(2), w.rate = number(4);
            number(4), number(2), w.bytes = (int)number(2) / 8, read = 16;
            if (w.format == 0xfffe && size >= 40)
                number(8), w.format = (int)number(2), read = 26;
        }
        for (; read < size + (size & 1); read++)
            number(1);
    }
    if (w.rate != OWL_RATE_HZ) {
        fprintf(stderr, "the recording has %lu Hz, the model wants %d; resample it first\n", w.rate, OWL_RATE_HZ);
        exit(1);
    }
    if (w.channels < 1)
        fail("the WAV file has no channels");
    if (!((w.format == 1 && w.bytes >= 2 && w.bytes <= 4) || (w.format == 3 && w.bytes == 4)))
        fail("only PCM of 16, 24 or 32 bits and float of 32 bits are read");
    return w;
}

static int read_sample(wav *w, float *sample)
{
    int channel;
    double sum = 0;
    if (w->left < (unsigned long)(w->channels * w->bytes))
        return 0;
    for (channel = 0; channel < w->channels; channel++) {
        uint32_t bits = (uint32_t)number(w->bytes) << (32 - 8 * w->bytes);
        if (w->format == 3) {
            float value;
            memcpy(&value, &bits, 4);
            sum += value - value == 0 ? value : 0; /* what is not finite counts as silence */
        } else
            sum += bits < 0x80000000u ? bits / 2147483648.0 : bits / 2147483648.0 - 2;
    }
    w->left -= (unsigned long)(w->channels * w->bytes);
    *sample = (float)(sum / w->channels);
    return 1;
}

/* --- scoring ---------------------------------------------------------------------------------------------------- */

static int upward(const void *a, const void *b)
{
    float x = *(const float *)a, y = *(const float *)b;
    return (x > y) - (x < y);
}

/* The level that each band keeps under for a fifth of the frames from `first` on. */
static void quiet_level(const table *frames, long first, long count, float *level)
{
    float *column = malloc((size_t)count * sizeof(float));
    long i;
    int band;
    if (!column)
        fail("not enough memory");
    for (band = 0; band < OWL_BANDS; band++) {
        double at = OWL_QUIET_SHARE * (double)(count - 1);
        long low = (long)at, high = low + 1 < count ? low + 1 : low;
        for (i = 0; i < count; i++)
            column[i] = frames->values[(first + i) * OWL_BANDS + band];
        qsort(column, (size_t)count, sizeof(float), upward);
        level[band] = (float)(column[low] + (at - (double)low) * ((double)column[high] - column[low]));
    }
    free(column);
}

static void print_row(const float *row, int count)
{
    int i;
    for (i = 0; i < count; i++)
        printf("%.9g%c", (double)row[i], i + 1 < count ? ',' : '\n');
}

static void score_frame(owl *o, const float *frame)
{
    if (owl_push_frame(o, frame)) {
        add_row(&activity, o->activity);
        add_row(&onsets, o->onsets);
        add_row(&label_logits, o->label_logits);
        if (shows == LOGITS)
            print_row(o->logits, OWL_OUTPUTS);
    }
    if (shows == LEVELS && o->frames >= OWL_LEVEL_SPAN) {
        float level[OWL_BANDS];
        int band;
        for (band = 0; band < OWL_BANDS; band++)
            level[band] = (float)o->level[band];
        print_row(level, OWL_BANDS);
    }
}

static void score_recording(void)
{
    static owl o;
    static float samples[OWL_FRAME], quiet[OWL_BANDS];
    table frames = {NULL, 0, 0, OWL_BANDS};
    wav w = read_header();
    long filled = 0, i, window;
    float sample, frame[OWL_BANDS];
    owl_start(&o);
    while (read_sample(&w, &sample)) {
        samples[filled++] = sample;
        if (filled < OWL_FRAME)
            continue;
        owl_frame(&o, samples, frame);
        add_row(&frames, frame);
        memmove(samples, samples + OWL_HOP, (OWL_FRAME - OWL_HOP) * sizeof(float));
        filled = OWL_FRAME - OWL_HOP;
    }
    if (!frames.rows)
        fail("the recording is too short for one frame");
    /* Half a window of quiet before the first frame and behind the last, so that there is a step for each. */
    window = frames.rows < OWL_WINDOW ? frames.rows : OWL_WINDOW;
    quiet_level(&frames, 0, window, quiet);
    for (i = 0; i < OWL_WINDOW / 2; i++)
        score_frame(&o, quiet);
    for (i = 0; i < frames.rows; i++)
        score_frame(&o, frames.values + i * OWL_BANDS);
    quiet_level(&frames, frames.rows - window, window, quiet);
    for (i = 0; i < OWL_WINDOW / 2; i++)
        score_frame(&o, quiet);
    free(frames.values);
}

/* Reads what `score_frame` would have kept. */
static void read_scores(void)
{
    float row[2 * OWL_TRACKS + OWL_LABELS + 2];
    while (fread(row, sizeof row, 1, stdin) == 1) {
        add_row(&activity, row);
        add_row(&onsets, row + OWL_TRACKS);
        add_row(&label_logits, row + 2 * OWL_TRACKS);
    }
}

/* --- deciding --------------------------------------------------------------------------------------------------- */

static void average(void)
{
    long half = OWL_SMOOTH_STEPS / 2, i, k;
    int number;
    for (i = 0; i < activity.rows; i++) {
        float row[OWL_TRACKS];
        long low = i < half ? 0 : i - half, high = i + half < activity.rows ? i + half : activity.rows - 1;
        for (number = 0; number < OWL_TRACKS; number++) {
            float sum = 0;
            for (k = low; k <= high; k++)
                sum += activity.values[k * OWL_TRACKS + number];
            row[number] = sum / (float)(high - low + 1);
        }
        add_row(&smooth, row);
    }
}

static float begin_score(long step, int number)
{
    return onsets.values[step * OWL_TRACKS + number];
}

/* Place of a maximum between steps: that of a parabola through the logarithms of it and its neighbors. */
static double peak(long at, int number)
{
    double before, here, after, bend;
    if (at <= 0 || at >= onsets.rows - 1)
        return (double)at;
    before = log(begin_score(at - 1, number) + 1e-4f);
    here = log(begin_score(at, number) + 1e-4f);
    after = log(begin_score(at + 1, number) + 1e-4f);
    bend = before - 2 * here + after;
    return bend < 0 ? (double)at + 0.5 * (before - after) / bend : (double)at;
}

typedef struct {
    int is_open, number, is_new;
    double start, ended;
    long onset, first, last, last_onset;
    float score;
} track;

static double at_step(double step)
{
    return OWL_FRAME / 2.0 / OWL_RATE_HZ + step * OWL_STEP * OWL_HOP / OWL_RATE_HZ;
}

static double milliseconds(double seconds)
{
    return floor(seconds * 1000 + 0.5) / 1000;
}

static void close_event(track *t)
{
    const owl_decoding *d = owl_track_decoding + t->number;
    double start, end, least;
    long last = t->last > t->first ? t->last : t->first;
    event *e = events + event_count;
    if (!t->is_open)
        return;
    t->is_open = 0;
    if (t->score < d->threshold)
        return;
    t->last_onset = t->onset;
    start = at_step(t->start) + d->onset_shift_s;
    start = start < 0 ? 0 : start;
    start = start > t->ended ? start : t->ended;
    end = at_step((double)t->last + 0.5) + d->offset_shift_s;
    least = start + at_step(1) - at_step(0);
    if (event_count == EVENTS)
        fail("more events than there is room for");
    event_count++;
    t->ended = end = end > least ? end : least;
    e->start = milliseconds(start), e->end = milliseconds(end);
    e->track = t->number, e->label = -1, e->score = t->score;
    e->is_new = t->is_new;
    e->first = t->first, e->last = last < t->first + OWL_NAMED_STEPS - 1 ? last : t->first + OWL_NAMED_STEPS - 1;
}

static void open_event(track *t, long step)
{
    long low = step - OWL_NEAR, high = step + OWL_NEAR, i, best;
    low = low < 0 ? 0 : low;
    low = low < t->last_onset + OWL_PEAK ? t->last_onset + OWL_PEAK : low;
    high = high < onsets.rows - 1 ? high : onsets.rows - 1;
    t->is_open = 1, t->start = (double)step, t->onset = t->last = t->first = step, t->score = 0, t->is_new = 0;
    for (best = low, i = low; i <= high; i++)
        best = begin_score(i, t->number) > begin_score(best, t->number) ? i : best;
    if (low <= high && begin_score(best, t->number) >= OWL_FAINT)
        t->start = peak(best, t->number), t->onset = best, t->first = best < step ? best : step;
    if (low <= high)
        t->is_new = begin_score(best, t->number) >= owl_track_decoding[t->number].retrigger_threshold;
}

static float highest(long from, long to, int number)
{
    float found = 0;
    for (; from < to; from++) {
        float x = smooth.values[from * OWL_TRACKS + number];
        found = x > found ? x : found;
    }
    return found;
}

static void extend(track *t, float score, long end)
{
    t->last = end - 1;
    t->score = score > t->score ? score : t->score;
}

static int begins_again(const track *t, long step, long before)
{
    long i;
    if (begin_score(step, t->number) < owl_track_decoding[t->number].retrigger_threshold || step <= before + OWL_PEAK)
        return 0;
    for (i = step - OWL_PEAK < 0 ? 0 : step - OWL_PEAK; i <= step + OWL_PEAK && i < onsets.rows; i++)
        if (begin_score(i, t->number) > begin_score(step, t->number))
            return 0;
    return 1;
}

static void follow(int number)
{
    const owl_decoding *d = owl_track_decoding + number;
    long gap = d->gap_steps, step = 0, start, end, at, i, before;
    track t = {0, 0, 0, 0, -1e30, 0, 0, 0, -OWL_PEAK, 0};
    t.number = number;
    while (step < smooth.rows) {
        if (smooth.values[step * OWL_TRACKS + number] < d->release_threshold) {
            step++;
            continue;
        }
        start = step;
        while (step < smooth.rows && smooth.values[step * OWL_TRACKS + number] >= d->release_threshold)
            step++;
        end = step;
        if (t.is_open && start - t.last - 1 > gap)
            close_event(&t);
        if (!t.is_open)
            open_event(&t, start);
        at = start;
        before = t.onset;
        for (i = start; d->retrigger_threshold < 1 && i < end; i++)
            if (begins_again(&t, i, before)) {
                extend(&t, highest(at, i, number), i);
                close_event(&t);
                t.is_open = t.is_new = 1, t.start = peak(i, number), t.onset = t.first = t.last = i, t.score = 0;
                at = before = i;
            }
        extend(&t, highest(at, end, number), end);
    }
    close_event(&t);
}

/* Classifies a stretch by its whole extent; see `label_logits` in the header. */
static void name(event *e)
{
    double sums[OWL_LABELS + 1] = {0}, total = 0, all = 0, events = 0;
    float top = -INFINITY;
    long i;
    int k, found = 0;
    for (i = e->first; i <= e->last; i++) {
        float attention = label_logits.values[i * (OWL_LABELS + 2) + OWL_LABELS + 1];
        top = attention > top ? attention : top;
    }
    for (i = e->first; i <= e->last; i++) {
        const float *row = label_logits.values + i * (OWL_LABELS + 2);
        double weight = exp(row[OWL_LABELS + 1] - top);
        total += weight;
        for (k = 0; k <= OWL_LABELS; k++)
            sums[k] += weight * row[k];
    }
    for (k = 1; k <= OWL_LABELS; k++)
        found = sums[k] > sums[found] ? k : found;
    for (k = 0; k <= OWL_LABELS; k++) {
        double share = exp((sums[k] - sums[found]) / total);
        all += share;
        events += k < OWL_LABELS && owl_is_event[k] ? share : 0;
    }
    if (found == OWL_LABELS || !owl_is_event[found] || events / all < OWL_NAMED || e->score < owl_label_decoding[found].threshold)
        return;
    e->label = found;
    e->score /= all;
    e->score = e->score > 1 ? 1 : e->score;
}

/* Whether one event is the rest of the one before it. */
static int goes_on(const event *before, const event *e)
{
    return before->label == e->label && !e->is_new
           && e->start - before->end <= owl_label_decoding[e->label].max_gap_s + 1e-6;
}

static int by_track(const void *a, const void *b)
{
    const event *x = a, *y = b;
    return x->start != y->start ? (x->start > y->start ? 1 : -1) : x->track - y->track;
}

static int by_score(const void *a, const void *b)
{
    const event *x = a, *y = b;
    if (x->score != y->score)
        return x->score < y->score ? 1 : -1;
    if (x->start != y->start)
        return x->start > y->start ? 1 : -1;
    return strcmp(owl_labels[x->label], owl_labels[y->label]);
}

static int by_start(const void *a, const void *b)
{
    const event *x = a, *y = b;
    if (x->start != y->start)
        return x->start > y->start ? 1 : -1;
    return strcmp(owl_labels[x->label], owl_labels[y->label]);
}

/* Of events that share too much of the shorter one's time, keeps the one with the highest score. */
static void sort_out(void)
{
    long kept = 0, i, k;
    qsort(events, (size_t)event_count, sizeof(event), by_score);
    for (i = 0; i < event_count; i++) {
        for (k = 0; OWL_ALONE < 1 && k < kept; k++) {
            double both = fmin(events[i].end, events[k].end) - fmax(events[i].start, events[k].start);
            double shorter = fmin(events[i].end - events[i].start, events[k].end - events[k].start);
            if (fmax(both, 0) / fmax(shorter, 1e-9) > OWL_ALONE)
                break;
        }
        if (OWL_ALONE >= 1 || k == kept)
            events[kept++] = events[i];
    }
    event_count = kept;
    qsort(events, (size_t)event_count, sizeof(event), by_start);
}

/* Leaves out what is too short, too long, or too soon after the last of its label. */
static void leave_out(void)
{
    double ended[OWL_LABELS];
    long kept = 0, i;
    int label;
    for (label = 0; label < OWL_LABELS; label++)
        ended[label] = -1e30;
    for (i = 0; i < event_count; i++) {
        const owl_decoding *d = owl_label_decoding + events[i].label;
        double length = events[i].end - events[i].start;
        if (length < d->min_duration_s - 1e-6 || length > d->max_duration_s + 1e-6
            || events[i].start < ended[events[i].label] + d->refractory_s - 1e-6)
            continue;
        ended[events[i].label] = events[i].end;
        events[kept++] = events[i];
    }
    event_count = kept;
}

static void decide(void)
{
    long kept = 0, i;
    int number;
    for (number = 0; number < OWL_TRACKS; number++)
        if (OWL_NAMES || owl_is_event[number])
            follow(number);
    qsort(events, (size_t)event_count, sizeof(event), by_track);
    for (i = 0; i < event_count; i++) {
        if (OWL_NAMES)
            name(events + i);
        else
            events[i].label = events[i].track;
        if (events[i].label < 0)
            continue;
        if (OWL_NAMES && kept && goes_on(events + kept - 1, events + i)) {
            events[kept - 1].end = events[i].end;
            events[kept - 1].score = fmax(events[kept - 1].score, events[i].score);
        } else
            events[kept++] = events[i];
    }
    event_count = kept;
    sort_out();
    leave_out();
}

int main(int count, char **arguments)
{
    long i;
    const char *option = count > 1 ? arguments[1] : "";
    if (!strcmp(option, "--sizes")) {
        printf("memory %lu bytes, numbers %lu bytes\n", (unsigned long)sizeof(owl), (unsigned long)OWL_NUMBERS);
        return 0;
    }
    shows = !strcmp(option, "--logits") ? LOGITS : !strcmp(option, "--levels") ? LEVELS : EVENTS_FOUND;
    if (!strcmp(option, "--decide"))
        read_scores();
    else
        score_recording();
    if (shows != EVENTS_FOUND)
        return 0;
    average();
    decide();
    printf("start_s,end_s,label,score\n");
    for (i = 0; i < event_count; i++)
        printf("%.3f,%.3f,%s,%.4f\n", events[i].start, events[i].end, owl_labels[events[i].label], events[i].score);
    return 0;
}
