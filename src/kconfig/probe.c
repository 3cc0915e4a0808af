#include "kconfig/probe.h"

#include <stdlib.h>
#include <string.h>

enum { SECONDS = 60, MORE_SECONDS = 2 /* each */, MOST_OUTPUT = 1 << 20, MOST_HANDS = 32 };

struct mos_kc_probes mos_kc_probes_make(struct mos_ctx *ctx, const char *const *environment,
                                        const char *folder) {
    return (struct mos_kc_probes){.ctx = ctx,
                                  .environment = environment,
                                  .folder = folder,
                                  .results = mos_map_make(ctx->arena),
                                  .waiting = mos_vec_make(ctx->arena, sizeof(char *))};
}

/* One shell for many commands, each in a part of its own with no arguments; behind each the sign.
 * Starting a program is dear where ours is large. */
static const char script[] = "for mosaicum in \"$@\"; do (set --; eval \"$mosaicum\"); "
                             "printf '\\036'; done";
enum { SIGN = 036 };

struct hand {
    struct mos_kc_probes *probes;
    const char **commands; /* behind the shell's own words; NULL-terminated */
    size_t count;
    struct mos_program_result result;
    int error;
};

enum { WORDS = 4 };

static void run(struct hand *h) {
    static const char *const words[WORDS] = {"sh", "-c", script, "sh"};
    memcpy(h->commands, words, sizeof words);
    struct mos_program program = {.arguments = h->commands,
                                  .environment = h->probes->environment,
                                  .folder = h->probes->folder,
                                  .output_limit = MOST_OUTPUT,
                                  .seconds = SECONDS + MORE_SECONDS * (unsigned)h->count};
    h->error = h->probes->ctx->host->run(h->probes->ctx->host, &program, &h->result);
}

/* Newlines are blanks; those at the end go. */
static char *flattened(struct mos_arena *arena, const char *text, size_t length) {
    while (length && text[length - 1] == '\n')
        length--;
    char *out = mos_strndup(arena, text, length);
    for (char *p = out; (p = strchr(p, '\n'));)
        *p = ' ';
    return out;
}

/* Keeps what came back; false with ctx->error: not all of it did. */
static bool keep(struct hand *h) {
    struct mos_kc_probes *p = h->probes;
    struct mos_ctx *ctx = p->ctx;
    const char *at = h->result.output ? h->result.output : "",
               *end = at + (h->result.output ? h->result.output_length : 0);
    size_t i = 0;
    for (const char *sign; i < h->count && (sign = memchr(at, SIGN, (size_t)(end - at)));
         i++, at = sign + 1, p->runs++)
        mos_map_set(&p->results, h->commands[WORDS + i],
                    flattened(ctx->arena, at, (size_t)(sign - at)));
    const char *last = i < h->count ? h->commands[WORDS + i] : "";
    if (h->error)
        mos_fail(ctx->error, MOS_ERROR_SYSTEM, h->error, "Cannot run a shell for probes");
    else if (i < h->count && h->result.timeout)
        mos_fail(ctx->error, MOS_ERROR_SYSTEM, 0, "A probe did not end in time: %s", last);
    else if (i < h->count && h->result.overflow)
        mos_fail(ctx->error, MOS_ERROR_SYSTEM, 0, "A probe printed more than %d MiB: %s",
                 MOST_OUTPUT >> 20, last);
    else if (i < h->count)
        mos_fail(ctx->error, MOS_ERROR_SYSTEM, 0, "The shell of the probes ended at this one: %s",
                 last);
    else if (at != end) /* then nobody knows which result is whose */
        mos_fail(ctx->error, MOS_ERROR_SYSTEM, 0,
                 "A probe printed the byte 0x%02x, which stands between results", SIGN);
    bool good = i == h->count && at == end;
    free(h->result.output);
    free(h->result.errors);
    return good;
}

const char *mos_kc_probe(struct mos_kc_probes *p, const char *command) {
    const char *known = mos_map_get(&p->results, command);
    if (known)
        return known;
    static const char guess[] = {MOS_KC_GUESS, 0};
    if (strchr(command, MOS_KC_GUESS))
        return guess;
    if (p->ctx->no_run) {
        mos_fail(p->ctx->error, MOS_ERROR_USAGE, 0, "With --no-run no probe is run: %s", command);
        return NULL;
    }
    const char *own = mos_strndup(p->ctx->arena, command, strlen(command));
    if (p->guess) {
        for (size_t i = 0; i < p->waiting.count; i++)
            if (strcmp(mos_vec_pointer(&p->waiting, i), command) == 0)
                return guess;
        mos_vec_push_pointer(&p->waiting, own);
        return guess;
    }
    const char *words[WORDS + 2] = {[WORDS] = own};
    struct hand h = {.probes = p, .commands = words, .count = 1};
    run(&h);
    return keep(&h) ? mos_map_get(&p->results, command) : NULL;
}

/* ---- all at once ---- */

static void work(void *self, void *job) {
    (void)self;
    run(job);
}

bool mos_kc_probe_waiting(struct mos_kc_probes *p) {
    const struct mos_host *host = p->ctx->host;
    size_t count = p->waiting.count, hands = host->cores(host) + 1;
    struct hand all[MOST_HANDS];
    struct mos_worker *workers[MOST_HANDS];
    hands = hands > MOST_HANDS ? MOST_HANDS : hands > count ? count : hands;
    for (size_t i = 0; i < hands; i++) {
        all[i] = (struct hand){.probes = p};
        all[i].commands =
            mos_alloc_array(p->ctx->arena, WORDS + count / hands + 2, sizeof *all[i].commands);
        for (size_t k = i; k < count; k += hands)
            all[i].commands[WORDS + all[i].count++] = mos_vec_pointer(&p->waiting, k);
        workers[i] = i ? host->worker_start(host, work, NULL) : NULL;
        if (workers[i])
            host->worker_submit(workers[i], &all[i]);
    }
    for (size_t i = 0; i < hands; i++)
        if (!workers[i])
            work(NULL, &all[i]);
    for (size_t i = 0; i < hands; i++)
        if (workers[i])
            host->worker_finish(workers[i]);
    bool good = true;
    for (size_t i = 0; i < hands; i++)
        good &= keep(&all[i]);
    p->waiting.count = 0;
    return good;
}
