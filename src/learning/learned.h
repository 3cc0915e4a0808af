/* What a board tells of itself at a prompt: its loader's, or that of a Linux.  Questions are asked
 * one after the other, and an answer may lead to more of them; whoever has the line types them
 * (api/learn-line.c).  Nothing that is asked changes what is stored on the board. */
#ifndef MOS_LEARNING_LEARNED_H
#define MOS_LEARNING_LEARNED_H

#include "base/buf.h"
#include "base/map.h"

#include <stdbool.h>
#include <stdint.h>

struct mos_dialect; /* boot/dialect.h */
struct mos_learned;

struct mos_asked {
    const char *command; /* one line */
    unsigned seconds;    /* that its answer may take */
    /* Reads the answer: text without carriage returns.  `word` is of who asked. */
    void (*understand)(struct mos_learned *l, const struct mos_asked *q, const char *answer);
    const char *word;
    unsigned number;
    /* Does an answer prove by itself that it came whole?  Then it is not asked again. */
    bool (*whole)(struct mos_arena *arena, const struct mos_asked *q, const char *answer);
    const char *answer; /* once it came; NULL: none did */
};

/* What came when one question was asked, again and again: noise on a line changes an answer, and
 * hardly ever twice in the same way.  All zero at first. */
struct mos_answers {
    const char *came[4]; /* each another one */
    unsigned count, silent;
    const char *taken; /* two were like this; NULL: none is sure … */
    const char *why;   /* … a few words */
};

/* Something that was told, and the command that it answered. */
struct mos_told {
    const char *name, *value, *asked;
};

struct mos_told_span {
    uint64_t start, length; /* bytes */
};

struct mos_told_partition {
    unsigned number;
    uint64_t start, length; /* bytes */
    const char *name;       /* in the table; NULL: none */
    const char *type;       /* of the table: a GUID, or "0x83"; NULL: not told */
    bool bootable;
    const char *device; /* "254:2", of a Linux */
    const char *fs;     /* as the kernel mounted it: "ext4"; NULL: it did not */
    const char *path;   /* … and where */
};

struct mos_told_medium {
    const char *loader;  /* "mmc 0"; NULL: a Linux told it */
    const char *kernel;  /* "mmcblk0"; NULL: a loader told it */
    const char *kind;    /* as definitions have it: "sd"; NULL: not known */
    const char *name;    /* its own; NULL: not told */
    uint64_t size, blur; /* bytes; it may be so many more or less */
    uint64_t sector;
    const char *table; /* "gpt", "mbr"; NULL: none, or not known */
    const char *asked, *table_asked;
    struct mos_vec partitions; /* of struct mos_told_partition */
};

/* Are a loader's variables those that are compiled into it? */
enum mos_variables_are { MOS_VARIABLES_UNKNOWN, MOS_VARIABLES_COMPILED, MOS_VARIABLES_STORED };

struct mos_learned {
    struct mos_arena *arena;
    struct mos_vec questions; /* of struct mos_asked, in the order in which they are asked */
    size_t next;              /* where the next one goes: behind the one that is answered now */
    struct mos_vec facts;     /* of struct mos_told: for people, in order */
    struct mos_vec unknown;   /* of const char *: what could not be learnt, and why */
    const struct mos_dialect *dialect; /* of the loader that tells; NULL: it is a Linux */
    /* NULL, 0 and empty: not told */
    const char *version; /* of the loader */
    const char *cpu;     /* as definitions have it */
    const char *compatible, *model;
    struct mos_vec ram; /* of struct mos_told_span */
    const char *ram_asked;
    uint64_t held;        /* bytes at the end of RAM that the loader has while it loads */
    struct mos_vec media; /* of struct mos_told_medium */
    /* of a loader */
    struct mos_map commands;  /* that it has: name -> name */
    struct mos_map symbols;   /* how it was built: symbol -> struct mos_told */
    const char *config;       /* its whole configuration */
    struct mos_map variables; /* name -> value; the board's own and passing ones left out */
    enum mos_variables_are variables_are;
    /* of a Linux */
    const char *release, *arguments, *system, *host_name, *console, *loader_access;
    unsigned cores;
    uint64_t memory;                    /* bytes that the kernel has */
    struct mos_buf kernel_config, tree; /* a blob */
    struct mos_vec modules;             /* of const char * */
};

/* Nothing is told, and nothing asked. */
void mos_learned_begin(struct mos_learned *l, struct mos_arena *arena);
/* For `whole`: nobody reads it, or it changes by itself, so that no two are alike. */
bool mos_learned_any(struct mos_arena *arena, const struct mos_asked *q, const char *answer);
/* Who asks sets `next` behind the question whose answer is read: what follows from it comes then,
 * before all that is asked later.  A question: */
struct mos_asked *mos_learned_ask(struct mos_learned *l, const char *command, unsigned seconds,
                                  void (*understand)(struct mos_learned *l,
                                                     const struct mos_asked *q, const char *answer),
                                  const char *word, unsigned number);
/* One more answer (NULL: none came in time), which is kept in the arena.  false: ask it again. */
bool mos_learned_settled(struct mos_answers *a, struct mos_arena *arena, const struct mos_asked *q,
                         const char *answer);
/* What a question told, for people. */
void mos_learned_fact(struct mos_learned *l, const char *name, const char *value,
                      const struct mos_asked *q);
void mos_learned_symbol(struct mos_learned *l, const char *symbol, const char *value,
                        const struct mos_asked *q);
void mos_learned_unknown(struct mos_learned *l, const char *what);
/* The medium that the loader (or the kernel) calls so, a new one if need be. */
struct mos_told_medium *mos_learned_medium(struct mos_learned *l, const char *loader,
                                           const char *kernel);
/* A partition of a medium, where its number and place can be: NULL: they cannot. */
struct mos_told_partition *mos_learned_partition(struct mos_told_medium *m, uint64_t number,
                                                 uint64_t start, uint64_t length);
/* A range of RAM; what is empty, or goes beyond all addresses, is none. */
void mos_learned_ram(struct mos_learned *l, uint64_t start, uint64_t length,
                     const struct mos_asked *q);
/* The text behind `key`, up to the line's end, without blanks around it; NULL: it is not there. */
const char *mos_learned_behind(struct mos_arena *arena, const char *answer, const char *key);

#endif
