#include "watch/symptoms.h"

#include <stdlib.h>
#include <string.h>

#define P(point) (1U << MOS_POINT_##point)
const struct mos_symptom_row mos_symptom_rows[MOS_SYMPTOM_COUNT] = {
#define MOS_SYMPTOM(symbol, id, stage, kind, points, title, says, remedy, texts)                   \
    {id, title, says, remedy, texts, MOS_AT_##stage, MOS_SYMPTOM_IS_##kind, points},
#include "watch/symptoms.def"
#undef MOS_SYMPTOM
};
#undef P

const char *mos_boot_stage_name(enum mos_boot_stage stage) {
    static const char *const names[MOS_BOOT_STAGES] = {
        [MOS_AT_NOTHING] = "power-on",    [MOS_AT_ROM] = "ROM",
        [MOS_AT_FIRST] = "first stage",   [MOS_AT_LOADER] = "loader",
        [MOS_AT_HAND_OVER] = "hand-over", [MOS_AT_KERNEL] = "kernel",
        [MOS_AT_ROOT] = "root",           [MOS_AT_PROGRAM] = "first program",
        [MOS_AT_SYSTEM] = "system"};
    return names[stage];
}

const char *mos_symptom_text(struct mos_arena *arena, enum mos_symptom_id id,
                             const char *const *values, size_t count) {
    const struct mos_symptom_row *row = &mos_symptom_rows[id];
    struct mos_buf out = {.arena = arena};
    const char *p = row->says;
    bool whole = *p != 0;
    while (whole && *p) {
        size_t n = strcspn(p, "{");
        mos_buf_add(&out, p, n);
        p += n;
        if (!*p)
            break;
        size_t which = (size_t)(p[1] - '1');
        const char *value = which < count && values ? values[which] : "";
        value += strspn(value, " :,-");
        whole = *value != 0; /* a sentence with a gap is none */
        mos_buf_text(&out, value);
        p += 3;
    }
    if (whole)
        return mos_buf_string(&out);
    char *title = mos_printf(arena, "%s.", row->title);
    if (*title >= 'a' && *title <= 'z')
        *title = (char)(*title - 'a' + 'A');
    return title;
}

void mos_symptoms_add(struct mos_matcher *m, struct mos_symptom_texts *out) {
    out->count = 0;
    for (size_t i = 0; i < MOS_SYMPTOM_COUNT; i++) {
        for (const char *p = mos_symptom_rows[i].texts; *p;) {
            size_t n = strcspn(p, "\n"), number = mos_matcher_add(m, p, n);
            if (number == SIZE_MAX || out->count == sizeof out->owner / sizeof *out->owner)
                abort(); /* the table is wrong, whatever the input */
            if (!out->count)
                out->first = number;
            out->owner[out->count++] = (uint16_t)i;
            p += n + (p[n] == '\n');
        }
    }
}
