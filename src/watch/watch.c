#include "watch/watch.h"

#include "base/text.h"

#include <stdlib.h>
#include <string.h>

#define SECOND INT64_C(1000000000)

enum {
    SETTLES = 3,         /* seconds of silence behind what ends a start */
    ENOUGH_LETTERS = 8,  /* of one kind, to be a call for a program */
    ENOUGH_STARTS = 3,   /* that came to nothing, to be a loop */
    ENOUGH_GARBAGE = 16, /* bytes */
    MOST_STARTS = 64     /* that are kept */
};

/* ---- one start ---- */

static void begin_start(struct mos_watch *w, int64_t now) {
    memset(w->marks, 0, (w->s.count + 1) * sizeof *w->marks);
    w->next = 0;
    w->stage = MOS_AT_NOTHING;
    w->hits.count = 0;
    w->began = w->reached = now;
    w->counting = w->at_prompt = w->panics = w->restarts = w->lists = false;
    w->disks = w->letters = w->reached_number = w->before_number = 0;
    w->letter = 0;
}

const struct mos_watch_texts *mos_watch_texts(struct mos_arena *arena,
                                              const struct mos_landmark *landmarks, size_t count) {
    struct mos_watch_texts *t = mos_alloc(arena, sizeof *t);
    t->matcher = mos_matcher_new(arena);
    for (size_t i = 0; i < count; i++)
        if (mos_matcher_add(t->matcher, landmarks[i].text, strlen(landmarks[i].text)) != i)
            abort(); /* who made the landmark has to see to it */
    mos_symptoms_add(t->matcher, &t->symptoms);
    mos_matcher_make(t->matcher);
    return t;
}

void mos_watch_begin(struct mos_watch *w, const struct mos_watch_settings *settings, int64_t now) {
    struct mos_arena *arena = settings->arena;
    *w = (struct mos_watch){.s = *settings,
                            .usual = mos_map_make(arena),
                            .hits = mos_vec_make(arena, sizeof(void *)),
                            .starts = mos_vec_make(arena, sizeof(struct mos_watch_start))};
    if (!w->s.texts)
        w->s.texts = mos_watch_texts(arena, settings->landmarks, settings->count);
    for (const char *p = settings->usual ? settings->usual : ""; *p; p = mos_next_line(p)) {
        size_t n = strcspn(p, "\r\n");
        if (n)
            mos_map_set_const(&w->usual, mos_strndup(arena, p, n), "");
    }
    w->marks = mos_alloc_array(arena, settings->count + 1, sizeof *w->marks);
    begin_start(w, now);
}

/* ---- symptoms ---- */

/* Without blanks around it, and not longer than anybody reads. */
static const char *trimmed(const char *text, size_t *size) {
    size_t length = *size;
    while (length && (*text == ' ' || *text == '\t')) {
        text++;
        length--;
    }
    while (length && (text[length - 1] == ' ' || text[length - 1] == '\t'))
        length--;
    *size = length < MOS_WATCH_KEPT ? length : MOS_WATCH_KEPT;
    return text;
}

static const char *kept(struct mos_watch *w, const char *text, size_t length) {
    text = trimmed(text, &length);
    return mos_strndup(w->s.arena, text, length);
}

/* A loader's words mean nothing once the kernel speaks, nor a kernel's to a loader. */
static bool belongs_here(enum mos_boot_stage of, enum mos_boot_stage at) {
    if (of == MOS_AT_FIRST)
        return at <= MOS_AT_FIRST;
    if (of == MOS_AT_LOADER)
        return at != MOS_AT_FIRST && at <= MOS_AT_HAND_OVER;
    return of == MOS_AT_NOTHING || of == MOS_AT_HAND_OVER || at == MOS_AT_NOTHING ||
           at >= MOS_AT_HAND_OVER;
}

static struct mos_watch_hit *find_hit(const struct mos_watch *w, enum mos_symptom_id id) {
    for (size_t i = 0; i < w->hits.count; i++) {
        struct mos_watch_hit *h = mos_vec_pointer(&w->hits, i);
        if (h->id == id)
            return h;
    }
    return NULL;
}

static struct mos_watch_hit *add_hit(struct mos_watch *w, enum mos_symptom_id id,
                                     const struct mos_line *line) {
    struct mos_watch_hit *h = find_hit(w, id);
    if (h)
        return NULL;
    h = mos_alloc(w->s.arena, sizeof *h);
    *h = (struct mos_watch_hit){.id = id,
                                .stage = w->stage,
                                .line = kept(w, line->text, line->length),
                                .at = line->at,
                                .number = w->number};
    mos_vec_push_pointer(&w->hits, h);
    return h;
}

static void take_symptom(struct mos_watch *w, enum mos_symptom_id id, const struct mos_line *line,
                         const struct mos_match *match) {
    const struct mos_symptom_row *row = &mos_symptom_rows[id];
    if (!belongs_here(row->stage, w->stage) || mos_map_get(&w->usual, line->text))
        return;
    w->panics |= id == MOS_SYMPTOM_PANIC;
    w->restarts |= id == MOS_SYMPTOM_RESTARTS;
    struct mos_watch_hit *h = add_hit(w, id, line);
    for (size_t i = 0; h && i < match->count && i < 2; i++)
        h->values[h->value_count++] = kept(w, match->values[i], match->lengths[i]);
}

/* "b302   912384 mmcblk0p2 …", or "103:00002 …" where the numbers are large. */
static bool is_disk(const char *message) {
    message += strspn(message, " ");
    size_t n = strspn(message, "0123456789abcdef:");
    return (n == 4 || n == 9) && message[n] == ' ';
}

/* The kernel lists the disks that it knows before it gives up: there may be none. */
static void look_for_disks(struct mos_watch *w, const struct mos_line *line, const char *message) {
    if (strstr(message, "here are the available partitions:")) {
        w->lists = true;
        w->disks = 0;
    } else if (w->lists && is_disk(message)) {
        w->disks++;
    } else if (w->lists && strstr(message, "Kernel panic") && !w->disks) {
        struct mos_watch_hit *h = find_hit(w, MOS_SYMPTOM_ROOT_MISSING);
        if (h)
            h->id = MOS_SYMPTOM_ROOT_NO_DISK;
        else
            add_hit(w, MOS_SYMPTOM_ROOT_NO_DISK, line);
    }
}

/* ---- the reason ---- */

static unsigned weight_of(const struct mos_watch *w, enum mos_symptom_id id) {
    if (id == MOS_SYMPTOM_ENVIRONMENT_BAD && w->s.by_variables)
        return 3;
    if (!w->s.network && mos_symptom_rows[id].points & 1U << MOS_POINT_NETWORK)
        return 0;
    static const unsigned weights[] = {[MOS_SYMPTOM_IS_CAUSE] = 3,
                                       [MOS_SYMPTOM_IS_FORM] = 2,
                                       [MOS_SYMPTOM_IS_HINT] = 2,
                                       [MOS_SYMPTOM_IS_END] = 1,
                                       [MOS_SYMPTOM_IS_SIGN] = 0};
    return weights[mos_symptom_rows[id].kind];
}

/* The first of those that weigh most, from a line on; what a loader said is past once a kernel has
 * spoken. */
static const struct mos_watch_hit *reason_from(const struct mos_watch *w, size_t number) {
    const struct mos_watch_hit *best = NULL;
    for (size_t i = 0; i < w->hits.count; i++) {
        const struct mos_watch_hit *h = mos_vec_pointer(&w->hits, i);
        bool past =
            h->number < number || (w->stage >= MOS_AT_KERNEL && h->stage <= MOS_AT_HAND_OVER &&
                                   mos_symptom_rows[h->id].kind != MOS_SYMPTOM_IS_FORM);
        unsigned weight = past ? 0 : weight_of(w, h->id),
                 before = best ? weight_of(w, best->id) : 0;
        /* of one line, the row that comes first says more */
        if (weight > before ||
            (weight && weight == before && best->number == h->number && h->id < best->id))
            best = h;
    }
    return best;
}

/* Loaders try this and that: what they said before the last landmark is past.  Only behind a silent
 * hand-over a cause that came right before it may be the reason. */
static const struct mos_watch_hit *reason(const struct mos_watch *w) {
    if (w->stage > MOS_AT_HAND_OVER)
        return reason_from(w, 0);
    const struct mos_watch_hit *h = reason_from(w, w->reached_number);
    if (h || w->stage != MOS_AT_HAND_OVER)
        return h;
    h = reason_from(w, w->before_number);
    return h && weight_of(w, h->id) == 3 ? h : NULL;
}

/* Where nothing was said that tells: how it came. */
static enum mos_symptom_id form(const struct mos_watch *w, enum mos_watch_close why) {
    if (w->letters >= ENOUGH_LETTERS)
        return MOS_SYMPTOM_ONE_LETTER;
    if (w->lines.bytes >= ENOUGH_GARBAGE && w->lines.odd * 4 > w->lines.bytes)
        return MOS_SYMPTOM_GARBAGE;
    if (w->at_prompt)
        return w->counting ? MOS_SYMPTOM_KEY_STOPPED : MOS_SYMPTOM_PROMPT;
    if (w->starts.count >= ENOUGH_STARTS)
        return MOS_SYMPTOM_RESET_LOOP;
    if (why == MOS_WATCH_GONE)
        return MOS_SYMPTOM_LINE_GONE;
    if (!*w->last && w->stage == MOS_AT_NOTHING)
        return MOS_SYMPTOM_NOTHING;
    static const enum mos_symptom_id forms[MOS_BOOT_STAGES] = {
        [MOS_AT_NOTHING] = MOS_SYMPTOM_LOADER_SILENT,
        [MOS_AT_ROM] = MOS_SYMPTOM_FIRST_STAGE_SILENT,
        [MOS_AT_FIRST] = MOS_SYMPTOM_FIRST_STAGE_SILENT,
        [MOS_AT_LOADER] = MOS_SYMPTOM_LOADER_SILENT,
        [MOS_AT_HAND_OVER] = MOS_SYMPTOM_SILENT_HAND_OVER,
        [MOS_AT_KERNEL] = MOS_SYMPTOM_SILENT_KERNEL,
        [MOS_AT_ROOT] = MOS_SYMPTOM_SILENT_KERNEL,
        [MOS_AT_PROGRAM] = MOS_SYMPTOM_SILENT_PROGRAM,
        [MOS_AT_SYSTEM] = MOS_SYMPTOM_NO_LOG_IN};
    return forms[w->stage];
}

/* ---- landmarks ---- */

static void restart(struct mos_watch *w, int64_t at) {
    if (w->starts.count < MOST_STARTS) {
        struct mos_watch_start *s = mos_vec_push(&w->starts);
        *s = (struct mos_watch_start){w->began, w->stage, reason(w)};
    }
    if (w->tells)
        w->tells(w->self, SIZE_MAX, NULL);
    begin_start(w, at);
}

static void reach(struct mos_watch *w, size_t i, const struct mos_line *line,
                  const struct mos_match *match) {
    const struct mos_landmark *l = &w->s.landmarks[i];
    struct mos_watch_mark *mark = &w->marks[i];
    for (size_t k = w->next; k < i; k++)
        w->marks[k].passed = !w->marks[k].reached;
    *mark = (struct mos_watch_mark){.reached = true, .at = line->at};
    if (match->count)
        mark->value = kept(w, match->values[0], match->lengths[0]);
    mark->differs = l->value && mark->value && strcmp(l->value, mark->value) != 0;
    if (mark->differs) {
        struct mos_watch_hit *h = add_hit(w, l->other, line);
        if (h)
            h->values[h->value_count++] = mark->value;
    }
    w->next = i + 1;
    w->stage = l->stage > w->stage ? l->stage : w->stage;
    w->reached = line->at;
    w->before_number = w->reached_number;
    w->reached_number = w->number;
    w->at_prompt = false;
    if (w->tells)
        w->tells(w->self, i, mark);
}

/* A program's first words once more, behind what only comes later. */
static bool starts_again(const struct mos_watch *w, size_t i, const struct mos_line *line) {
    const struct mos_landmark *l = &w->s.landmarks[i];
    if (!l->begins || !w->marks[i].reached)
        return false;
    /* a console that starts late repeats what an earlier one has said */
    return l->stage < MOS_AT_KERNEL || w->panics || w->stage >= MOS_AT_PROGRAM ||
           line->at - w->marks[i].at > 30 * SECOND;
}

struct taking {
    struct mos_watch *w;
    const struct mos_line *line;
    bool landmark; /* one was reached on this line */
};

static void take_match(void *self, const struct mos_match *match) {
    struct taking *t = self;
    struct mos_watch *w = t->w;
    if (match->number >= w->s.count) {
        size_t i = match->number - w->s.texts->symptoms.first;
        if (t->line->whole && i < w->s.texts->symptoms.count)
            take_symptom(w, (enum mos_symptom_id)w->s.texts->symptoms.owner[i], t->line, match);
        return;
    }
    const struct mos_landmark *l = &w->s.landmarks[match->number];
    if (t->line->whole ? l->open && mos_text_ends(l->text, "$") : !l->open)
        return;
    if (match->number >= w->next) {
        reach(w, match->number, t->line, match);
        t->landmark = true;
    } else if (!t->landmark && starts_again(w, match->number, t->line)) {
        restart(w, t->line->at);
        reach(w, match->number, t->line, match);
        t->landmark = true;
    }
}

/* ---- lines ---- */

/* As long as everything is one and the same letter. */
static void count_letters(struct mos_watch *w, const struct mos_line *line) {
    for (size_t i = 0; i < line->length; i++) {
        if (w->letters && line->text[i] != w->letter) {
            w->letters = 0;
            w->letter = '\n'; /* no letter ever again in this start */
        }
        if (w->letter == '\n')
            return;
        w->letter = line->text[i];
        w->letters++;
    }
}

static void take_line(void *self, const struct mos_line *line) {
    struct mos_watch *w = self;
    struct taking t = {w, line, false};
    if (line->whole)
        w->number++;
    if (!line->length)
        return;
    const char *message = mos_line_message(line->text, NULL);
    bool asks =
        w->s.prompt && *w->s.prompt && mos_text_ends(line->text, w->s.prompt) && !line->whole;
    if (w->stage < MOS_AT_HAND_OVER)
        w->at_prompt = asks && line->length == strlen(w->s.prompt);
    mos_matcher_line(w->s.texts->matcher, line->text, line->length, (size_t)(message - line->text),
                     take_match, &t);
    if (!line->whole)
        return;
    look_for_disks(w, line, message);
    const char *counts = strstr(line->text, "autoboot:");
    if (counts)
        w->counting = strpbrk(counts, "123456789") != NULL; /* it did not come to 0 */
    else if (!asks)
        w->counting = false;
    if (w->stage == MOS_AT_PROGRAM && !t.landmark && message == line->text)
        w->stage = MOS_AT_SYSTEM; /* not the kernel speaks */
    if (w->letter != '\n')
        count_letters(w, line);
    size_t length = line->length; /* there is no memory for each line of a board that never stops */
    const char *last = trimmed(line->text, &length);
    memcpy(w->last, last, length);
    w->last[length] = 0;
}

void mos_watch_take(struct mos_watch *w, const uint8_t *bytes, size_t length, int64_t now) {
    struct mos_line open;
    if (!length)
        return;
    if (!w->heard && !w->next) /* power is given when the first byte comes, at the latest */
        w->began = w->reached = now;
    w->heard = now;
    mos_lines_take(&w->lines, bytes, length, now, take_line, w);
    if (mos_lines_open(&w->lines, &open))
        take_line(w, &open);
    else
        w->at_prompt = false;
}

/* ---- time ---- */

/* The next that must come; `count`: none. */
static size_t awaited(const struct mos_watch *w) {
    size_t i = w->next;
    while (i < w->s.count && w->s.landmarks[i].may)
        i++;
    return i;
}

static bool ended(const struct mos_watch *w) {
    for (size_t i = 0; i < w->hits.count; i++) {
        const struct mos_watch_hit *h = mos_vec_pointer(&w->hits, i);
        if (mos_symptom_rows[h->id].kind == MOS_SYMPTOM_IS_END && !w->restarts)
            return true;
    }
    return w->at_prompt;
}

int64_t mos_watch_due(const struct mos_watch *w, int64_t now) {
    size_t i = awaited(w);
    int64_t due = i < w->s.count ? w->reached + w->s.landmarks[i].within : now;
    int64_t settled = w->heard + SETTLES * SECOND;
    return ended(w) && settled < due ? settled : due;
}

enum mos_watch_end mos_watch_look(struct mos_watch *w, int64_t now) {
    if (awaited(w) == w->s.count && w->s.count)
        return MOS_WATCH_WELL;
    if (w->s.starts && w->starts.count >= w->s.starts)
        return MOS_WATCH_STOPPED;
    return now >= mos_watch_due(w, now) ? MOS_WATCH_STOPPED : MOS_WATCH_GOES_ON;
}

/* ---- the verdict ---- */

static void copy_values(struct mos_watch_verdict *v, const struct mos_watch_hit *h) {
    v->hit = h;
    v->symptom = h->id;
    v->has_symptom = true;
    v->value_count = h->value_count;
    memcpy(v->values, h->values, sizeof v->values);
}

/* A loop ends as its last starts did. */
static const struct mos_watch_hit *reason_of_starts(const struct mos_watch *w) {
    for (size_t i = w->starts.count; i; i--) {
        const struct mos_watch_start *s = mos_vec_at(&w->starts, i - 1);
        if (s->why && weight_of(w, s->why->id) > 1)
            return s->why;
    }
    return NULL;
}

/* It is up: as it was built? */
static void judge_well(const struct mos_watch *w, struct mos_watch_verdict *v) {
    for (size_t i = 0; i < w->s.count; i++)
        if (w->marks[i].differs && find_hit(w, w->s.landmarks[i].other)) {
            copy_values(v, find_hit(w, w->s.landmarks[i].other));
            return;
        }
    for (size_t i = 0; i < w->s.count; i++) {
        const struct mos_landmark *l = &w->s.landmarks[i];
        if (w->marks[i].passed && !l->may) {
            v->has_symptom = true;
            v->symptom = MOS_SYMPTOM_NOT_SAID;
            v->values[v->value_count++] = *l->about ? l->about : l->name;
            return;
        }
    }
}

const struct mos_watch_verdict *mos_watch_close(struct mos_watch *w, enum mos_watch_close why,
                                                int64_t now) {
    struct mos_watch_verdict *v = &w->verdict;
    struct mos_line open;
    if (mos_lines_open(&w->lines, &open)) { /* what it said last had no end */
        char text[MOS_LINE_MOST + 1];
        memcpy(text, open.text, open.length + 1);
        w->lines.length = 0;
        bool at_prompt = w->at_prompt, counting = w->counting;
        take_line(w, &(struct mos_line){text, open.length, open.at, true});
        w->at_prompt = at_prompt;
        w->counting = at_prompt ? counting : w->counting;
    }
    v->end = mos_watch_look(w, now) == MOS_WATCH_WELL ? MOS_WATCH_WELL : MOS_WATCH_STOPPED;
    v->stage = w->stage;
    v->last = w->last;
    v->starts = w->starts.count + 1;
    if (w->starts.count)
        v->period =
            w->began -
            ((const struct mos_watch_start *)mos_vec_at(&w->starts, w->starts.count - 1))->began;
    const struct mos_watch_hit *h = reason(w);
    if (v->end == MOS_WATCH_WELL) {
        judge_well(w, v);
        return v;
    }
    if ((!h || weight_of(w, h->id) < 2) && w->starts.count) {
        const struct mos_watch_hit *before = reason_of_starts(w);
        h = before ? before : h;
    }
    if (h) {
        copy_values(v, h);
        return v;
    }
    v->has_symptom = true;
    v->symptom = form(w, why);
    if (v->symptom == MOS_SYMPTOM_ONE_LETTER) {
        v->values[v->value_count++] = mos_strndup(
            w->s.arena, w->letter == 0x15 ? "NAK" : &w->letter, w->letter == 0x15 ? 3 : 1);
    }
    return v;
}
