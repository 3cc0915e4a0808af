/* Watching a board start: which landmarks came, whether it is up, and if not, where it stopped and
 * why.  A state machine without port and clock: bytes and the time are given to it. */
#ifndef MOS_WATCH_WATCH_H
#define MOS_WATCH_WATCH_H

#include "base/map.h"
#include "watch/lines.h"
#include "watch/symptoms.h"

enum { MOS_WATCH_KEPT = 200 }; /* bytes of a line, or of a value in it */

/* A text that comes when all is well, in its turn. */
struct mos_landmark {
    const char *name, *about;  /* "kernel", "the kernel speaks" */
    enum mos_boot_stage stage; /* where the board is once it has come */
    const char *text;          /* as mos_matcher_add takes it */
    const char *value;         /* what its first {} must stand for; NULL: anything */
    enum mos_symptom_id other; /* … what it is if it does not */
    int64_t within;            /* ns behind the one before it */
    bool begins; /* with it a program starts: when it comes again, the board started again */
    bool may;    /* nothing follows from it if it does not come */
    bool open;   /* no line end comes behind it: it asks for something */
};

/* All texts that are looked for: the landmarks' and the symptoms'. */
struct mos_watch_texts {
    struct mos_matcher *matcher;
    struct mos_symptom_texts symptoms;
};
/* Makes them, for as many boards as one likes; the landmarks stay. */
const struct mos_watch_texts *mos_watch_texts(struct mos_arena *arena,
                                              const struct mos_landmark *landmarks, size_t count);

struct mos_watch_settings {
    struct mos_arena *arena;
    const struct mos_landmark *landmarks; /* in their order; they stay */
    size_t count;
    const struct mos_watch_texts *texts; /* of these landmarks; NULL: they are made now */
    const char *prompt;                  /* of the loader; NULL: not known */
    const char *usual; /* lines that the loader prints when all is well; NULL: not known */
    bool network;      /* it starts from the network, or may: what fails there counts */
    bool by_variables; /* what it starts stands in its variables, and nowhere else */
    unsigned starts;   /* so many are tried before it counts as a loop */
};

/* A symptom that was seen. */
struct mos_watch_hit {
    enum mos_symptom_id id;
    enum mos_boot_stage stage; /* where the board was */
    const char *values[2];     /* what stood for {1} and {2} */
    size_t value_count;
    const char *line;
    int64_t at;
    size_t number; /* of the line, from 1 */
};

/* How a landmark stands in the present start. */
struct mos_watch_mark {
    bool reached, passed; /* passed: one behind it came, and it did not */
    bool differs;         /* it came with another value */
    int64_t at;
    const char *value; /* what stood for its first {}; NULL: it has none */
};

/* A start that came to nothing, before the present one. */
struct mos_watch_start {
    int64_t began;
    enum mos_boot_stage stage;
    const struct mos_watch_hit *why; /* NULL: nothing tells */
};

enum mos_watch_end {
    MOS_WATCH_GOES_ON,
    MOS_WATCH_WELL,    /* the last landmark has come */
    MOS_WATCH_STOPPED, /* it will not */
};

/* Why nothing more comes. */
enum mos_watch_close { MOS_WATCH_TIME, MOS_WATCH_GONE, MOS_WATCH_ENOUGH };

struct mos_watch_verdict {
    enum mos_watch_end end;
    enum mos_boot_stage stage; /* where it stopped */
    bool has_symptom;          /* STOPPED: always; WELL: something is another than was built */
    enum mos_symptom_id symptom;
    const char *values[2];
    size_t value_count;
    const struct mos_watch_hit *hit; /* NULL: no text, but how it came */
    const char *last;                /* the last line that came; "" */
    size_t starts;                   /* how often it started */
    int64_t period;                  /* between the last two, ns; 0: it started once */
};

struct mos_watch {
    struct mos_watch_settings s;
    struct mos_map usual;
    struct mos_lines lines;
    struct mos_watch_mark *marks; /* one a landmark */
    size_t next;                  /* the landmark that comes next */
    enum mos_boot_stage stage;
    struct mos_vec hits;   /* of struct mos_watch_hit *, of the present start: each symptom once */
    struct mos_vec starts; /* of struct mos_watch_start: those that came to nothing */
    int64_t began;         /* the present start */
    int64_t reached;       /* when the last landmark came, or it began */
    size_t reached_number, before_number; /* … on which line; and the one before it */
    int64_t heard;                        /* the last byte; 0: none came */
    size_t number;                        /* lines so far */
    char last[MOS_WATCH_KEPT + 1];        /* the last line that was not empty */
    bool counting, at_prompt, panics,
        restarts; /* the countdown; the loader's prompt stands there … */
    size_t disks; /* the kernel listed, once it lists them */
    bool lists;
    char letter; /* all that came in this start, as long as it is one */
    size_t letters;
    struct mos_watch_verdict verdict;
    /* Told of each landmark as it comes, and of each start; may be NULL. */
    void (*tells)(void *self, size_t landmark, const struct mos_watch_mark *mark);
    void *self;
};

/* Power is given at that time. */
void mos_watch_begin(struct mos_watch *w, const struct mos_watch_settings *settings, int64_t now);
/* Bytes have come. */
void mos_watch_take(struct mos_watch *w, const uint8_t *bytes, size_t length, int64_t now);
/* Time has passed; what it has come to. */
enum mos_watch_end mos_watch_look(struct mos_watch *w, int64_t now);
/* When it wants to be asked again at the latest. */
int64_t mos_watch_due(const struct mos_watch *w, int64_t now);
/* Nothing more comes: the verdict, whatever it was before. */
const struct mos_watch_verdict *mos_watch_close(struct mos_watch *w, enum mos_watch_close why,
                                                int64_t now);

#endif
