/* Symptoms: texts, and ways of falling silent, that tell why a board does not come up. */
#ifndef MOS_WATCH_SYMPTOMS_H
#define MOS_WATCH_SYMPTOMS_H

#include "watch/matcher.h"

/* Where a board is between power-on and log-in, in their order. */
enum mos_boot_stage {
    MOS_AT_NOTHING,   /* nothing has come yet */
    MOS_AT_ROM,       /* … or only the ROM */
    MOS_AT_FIRST,     /* its first stage */
    MOS_AT_LOADER,    /* the loader */
    MOS_AT_HAND_OVER, /* the loader has said that it starts the kernel */
    MOS_AT_KERNEL,    /* the kernel has spoken */
    MOS_AT_ROOT,      /* it looks for its root, or has it */
    MOS_AT_PROGRAM,   /* the first program is started */
    MOS_AT_SYSTEM,    /* it has spoken */
    MOS_BOOT_STAGES
};
/* "first stage" … */
const char *mos_boot_stage_name(enum mos_boot_stage stage);

enum mos_symptom_id {
#define MOS_SYMPTOM(symbol, id, stage, kind, points, title, says, try, texts) MOS_SYMPTOM_##symbol,
#include "watch/symptoms.def"
#undef MOS_SYMPTOM
    MOS_SYMPTOM_COUNT
};

enum mos_symptom_kind {
    MOS_SYMPTOM_IS_CAUSE,
    MOS_SYMPTOM_IS_HINT,
    MOS_SYMPTOM_IS_END,
    MOS_SYMPTOM_IS_FORM,
    MOS_SYMPTOM_IS_SIGN
};

/* What of a definition a symptom has to do with. */
enum mos_point {
    MOS_POINT_CONSOLE,
    MOS_POINT_FIRST_STAGE,
    MOS_POINT_LOADER,
    MOS_POINT_ENVIRONMENT,
    MOS_POINT_MEDIUM, /* that the board boots from */
    MOS_POINT_FILE,   /* that is asked for: {1} */
    MOS_POINT_BOOT,   /* the entry */
    MOS_POINT_KERNEL,
    MOS_POINT_TREE,
    MOS_POINT_RAMDISK,
    MOS_POINT_PLACES, /* in RAM */
    MOS_POINT_RAM,
    MOS_POINT_NETWORK,
    MOS_POINT_ROOT, /* argument and region */
    MOS_POINT_CONFIG,
    MOS_POINT_MODULES,
    MOS_POINT_SYSTEM, /* what fills the root */
    MOS_POINT_MOUNTS,
    MOS_POINT_LOG_IN,
    MOS_POINT_WATCHDOG,
    MOS_POINTS
};

/* A row of symptoms.def, which says what its parts mean. */
struct mos_symptom_row {
    const char *id, *title, *says, *remedy, *texts;
    enum mos_boot_stage stage;
    enum mos_symptom_kind kind;
    uint32_t points; /* a bit for each enum mos_point */
};
extern const struct mos_symptom_row mos_symptom_rows[MOS_SYMPTOM_COUNT];

/* The row's sentence, with what stood for its {}; `values` may be NULL. */
const char *mos_symptom_text(struct mos_arena *arena, enum mos_symptom_id id,
                             const char *const *values, size_t count);
/* Adds every text of every symptom; whose text a number is then: mos_symptom_of(). */
struct mos_symptom_texts {
    size_t first;        /* number of the first text */
    uint16_t owner[800]; /* of text `first` + i: an enum mos_symptom_id */
    size_t count;
};
void mos_symptoms_add(struct mos_matcher *m, struct mos_symptom_texts *out);

#endif
