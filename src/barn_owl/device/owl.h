/* Listens to samples and says, step by step, which labels sound. C99, no heap, no other files than owl.c.
 *
 *     static owl o;                       // sizeof(owl) bytes of memory, all there is
 *     owl_start(&o);
 *     while (there are samples) {
 *         used = owl_push(&o, samples, count, &is_step);
 *         if (is_step) use o.sounds and o.onsets, OWL_TRACKS scores from 0 to 1 each, and o.label_logits
 *         samples += used; count -= used;
 *     }
 *
 * Step i tells of frame OWL_WINDOW / 2 + i * OWL_STEP, whose middle is at
 * (that frame * OWL_HOP + OWL_FRAME / 2) / OWL_RATE_HZ seconds.
 */
#ifndef OWL_H
#define OWL_H

#include <stdint.h>

@SIZES@

#if OWL_INT8
typedef int8_t owl_value;
#else
typedef float owl_value;
#endif

typedef struct {
    float activity[OWL_TRACKS]; /* score that any label with events is active; of each label where several may be */
    float onsets[OWL_TRACKS]; /* and that it begins */
    /* What a stretch of steps is named by as a whole: logits of the labels and of none of them, whose mean over the
     * steps counts each as much as the exponential of the last value. */
    float label_logits[OWL_LABELS + 2];
    float samples[OWL_FRAME];
    float frame[OWL_BANDS];   /* log-mel of the last frame, dB */
    int32_t filled;
    int32_t frames;
#if OWL_LEVEL_SPAN
    float power[OWL_LEVEL_SPAN * OWL_BANDS];
    float mean[OWL_LEVEL_SPAN];
#endif
    owl_value level[OWL_BANDS]; /* what the networks are given */
    int32_t seen[OWL_STAGES];
    owl_value memory[OWL_MEMORY];
    float logits[OWL_OUTPUTS];
    float fft[2 * OWL_FFT];
} owl;

/* Settings of the event decoder; the documentation of Barn Owl explains each. */
typedef struct {
    float threshold, release_threshold, retrigger_threshold;
    double min_duration_s, max_duration_s, refractory_s, max_gap_s, onset_shift_s, offset_shift_s;
    int32_t gap_steps;
} owl_decoding;

extern const char *const owl_labels[OWL_LABELS];
extern const uint8_t owl_is_event[OWL_LABELS]; /* 1 for a label that is reported, 0 for background and the like */
extern const owl_decoding owl_label_decoding[OWL_LABELS];
extern const owl_decoding owl_track_decoding[OWL_TRACKS]; /* of what is followed: any label together, or each */

void owl_start(owl *o);

/* Takes up to `count` samples at OWL_RATE_HZ, full scale 1.0, stops behind the one that made a step whole, and returns
 * how many it took. */
int32_t owl_push(owl *o, const float *samples, int32_t count, int *is_step);

/* The same for one frame of OWL_BANDS levels in dB that somebody else computed; returns whether a step is whole. */
int owl_push_frame(owl *o, const float *frame);

/* Computes the levels in dB of one frame of OWL_FRAME samples. */
void owl_frame(owl *o, const float *samples, float *frame);

#endif
