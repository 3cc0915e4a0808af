#include "learning/learned.h"

#include <string.h>

void mos_learned_begin(struct mos_learned *l, struct mos_arena *arena) {
    *l = (struct mos_learned){.arena = arena,
                              .questions = mos_vec_make(arena, sizeof(struct mos_asked)),
                              .facts = mos_vec_make(arena, sizeof(struct mos_told)),
                              .unknown = mos_vec_make(arena, sizeof(char *)),
                              .ram = mos_vec_make(arena, sizeof(struct mos_told_span)),
                              .media = mos_vec_make(arena, sizeof(struct mos_told_medium)),
                              .commands = mos_map_make(arena),
                              .symbols = mos_map_make(arena),
                              .variables = mos_map_make(arena),
                              .kernel_config = {.arena = arena},
                              .tree = {.arena = arena},
                              .modules = mos_vec_make(arena, sizeof(char *))};
}

bool mos_learned_any(struct mos_arena *arena, const struct mos_asked *q, const char *answer) {
    (void)arena;
    (void)q;
    (void)answer;
    return true;
}

struct mos_asked *mos_learned_ask(struct mos_learned *l, const char *command, unsigned seconds,
                                  void (*understand)(struct mos_learned *l,
                                                     const struct mos_asked *q, const char *answer),
                                  const char *word, unsigned number) {
    mos_vec_push(&l->questions);
    struct mos_asked *q = mos_vec_at(&l->questions, l->next);
    memmove(q + 1, q, (l->questions.count - 1 - l->next++) * sizeof *q);
    *q = (struct mos_asked){.command = command,
                            .seconds = seconds,
                            .understand = understand,
                            .word = word,
                            .number = number,
                            .whole = understand ? NULL : mos_learned_any};
    return q;
}

bool mos_learned_settled(struct mos_answers *a, struct mos_arena *arena, const struct mos_asked *q,
                         const char *answer) {
    enum { MOST = sizeof a->came / sizeof *a->came, MOST_SILENT = 2 };
    if (!answer) {
        a->why = mos_printf(arena, "no answer in %u s", q->seconds);
        return ++a->silent == MOST_SILENT || a->silent + a->count == MOST;
    }
    a->taken = q->whole && q->whole(arena, q, answer) ? mos_strdup(arena, answer) : NULL;
    for (unsigned i = 0; !a->taken && i < a->count; i++)
        a->taken = strcmp(a->came[i], answer) == 0 ? a->came[i] : NULL;
    if (a->taken)
        return true;
    a->came[a->count++] = mos_strdup(arena, answer);
    a->why = "it came differently each time it was asked, so the line is noisy";
    return a->silent + a->count == MOST;
}

void mos_learned_fact(struct mos_learned *l, const char *name, const char *value,
                      const struct mos_asked *q) {
    struct mos_told *t = mos_vec_push(&l->facts);
    *t = (struct mos_told){.name = name, .value = value, .asked = q ? q->command : NULL};
}

void mos_learned_symbol(struct mos_learned *l, const char *symbol, const char *value,
                        const struct mos_asked *q) {
    struct mos_told *t = mos_alloc(l->arena, sizeof *t);
    *t = (struct mos_told){.name = symbol, .value = value, .asked = q ? q->command : NULL};
    mos_map_set(&l->symbols, symbol, t);
}

void mos_learned_unknown(struct mos_learned *l, const char *what) {
    mos_vec_push_pointer(&l->unknown, what);
}

static bool same(const char *a, const char *b) {
    return a && b && strcmp(a, b) == 0;
}

struct mos_told_medium *mos_learned_medium(struct mos_learned *l, const char *loader,
                                           const char *kernel) {
    for (size_t i = 0; i < l->media.count; i++) {
        struct mos_told_medium *m = mos_vec_at(&l->media, i);
        if (same(m->loader, loader) || same(m->kernel, kernel))
            return m;
    }
    struct mos_told_medium *m = mos_vec_push(&l->media);
    *m = (struct mos_told_medium){.loader = loader,
                                  .kernel = kernel,
                                  .partitions =
                                      mos_vec_make(l->arena, sizeof(struct mos_told_partition))};
    return m;
}

struct mos_told_partition *mos_learned_partition(struct mos_told_medium *m, uint64_t number,
                                                 uint64_t start, uint64_t length) {
    enum { MOST_PARTITIONS = 1024 };
    const uint64_t most = (uint64_t)1 << 60; /* bytes */
    if (!number || number > MOST_PARTITIONS || !start || !length || start > most || length > most)
        return NULL;
    for (size_t i = 0; i < m->partitions.count; i++)
        if (((struct mos_told_partition *)mos_vec_at(&m->partitions, i))->number == number)
            return NULL;
    struct mos_told_partition *t = mos_vec_push(&m->partitions);
    *t = (struct mos_told_partition){
        .number = (unsigned)number, .start = start, .length = length, .device = ""};
    return t;
}

void mos_learned_ram(struct mos_learned *l, uint64_t start, uint64_t length,
                     const struct mos_asked *q) {
    if (!length || length > (uint64_t)1 << 60 || start + length < start)
        return;
    struct mos_told_span *r = mos_vec_push(&l->ram);
    *r = (struct mos_told_span){start, length};
    l->ram_asked = q ? q->command : NULL;
}

const char *mos_learned_behind(struct mos_arena *arena, const char *answer, const char *key) {
    const char *p = strstr(answer, key);
    if (!p)
        return NULL;
    p += strlen(key);
    p += strspn(p, " \t");
    size_t n = strcspn(p, "\n");
    while (n && (p[n - 1] == ' ' || p[n - 1] == '\t'))
        n--;
    return mos_strndup(arena, p, n);
}
