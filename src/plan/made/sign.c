/* Who signs a parcel: a key of the workspace, or an outside program that holds one.  And the
 * loader that is told to start nothing else: its own tree gets the public key. */
#include "plan/made/made.h"

#include "base/bytes.h"

#include <stdlib.h>
#include <string.h>

enum { MOST_KEY = 64 << 10, MOST_SIGNATURE = 512, SECONDS = 120 };

/* A key's file; NULL after a finding or an error. */
static const char *read_pem(struct mos_plan *plan, const struct mos_value *file, size_t *length) {
    char *pem;
    const char *path;
    struct mos_file_info info;
    if (!mos_plan_reach(plan, file->text, MOS_FILE_REGULAR, "The key", file->place, &path, &info) ||
        !mos_read_file(plan->ctx, path, MOST_KEY, &pem, length))
        return NULL;
    return pem;
}

static void useless(struct mos_plan *plan, const struct mos_value *file, const char *problem) {
    struct mos_findings *list = &plan->ctx->findings;
    struct mos_finding *f = mos_find(list, MOS_RULE_PIECE_FORMAT, "The key %s cannot be used: %s.",
                                     file->text, problem);
    mos_finding_at(list, f, file->place);
    mos_finding_try(list, f, "Make a key with \"openssl genrsa 2048\".");
}

/* "keys/mast.pem" is the key mast, unless it is named. */
static const char *key_name(struct mos_plan *plan, const struct mos_parcel_def *def) {
    const struct mos_value *file = def->key ? def->key : def->public_key;
    const char *slash = file ? strrchr(file->text, '/') : NULL;
    const char *name = slash ? slash + 1 : mos_text_or(file, "key");
    return mos_has(def->key_name) ? def->key_name->text
                                  : mos_strndup(plan->ctx->arena, name, strcspn(name, "."));
}

/* ---- a program that holds the key ---- */

struct outside {
    struct mos_signer signer;
    struct mos_plan *plan;
    const struct mos_parcel_def *def;
    const struct mos_dt_node *key; /* the public one */
    const char *key_hex;           /* its hash */
};

/* Signatures are kept in the workspace by key and digest: nobody is asked for one twice. */
static const char *kept_path(const struct outside *o, const uint8_t digest[32]) {
    char hex[65];
    mos_sha256_hex(digest, hex);
    return mos_path_join(
        o->plan->ctx->arena, o->plan->board->root,
        mos_printf(o->plan->ctx->arena, "made/signatures/%.16s-%s", o->key_hex, hex));
}

static bool ask(struct outside *o, const uint8_t digest[32], uint8_t *out) {
    struct mos_ctx *ctx = o->plan->ctx;
    const struct mos_list *words = &o->def->sign_with;
    const char **arguments = mos_alloc_array(ctx->arena, words->count + 1, sizeof *arguments);
    for (size_t i = 0; i < words->count; i++)
        arguments[i] = words->items[i]->text;
    struct mos_program program = {.arguments = arguments,
                                  .folder = o->plan->board->root,
                                  .input = digest,
                                  .input_length = 32,
                                  .output_limit = 64 << 10,
                                  .seconds = SECONDS};
    struct mos_program_result r = {0};
    size_t length = o->signer.bits / 8;
    int e = ctx->host->run(ctx->host, &program, &r);
    bool fits = !e && !r.timeout && !r.overflow && !r.status && r.output_length == length &&
                mos_parcel_signed_by(o->key, digest, (const uint8_t *)r.output, length);
    if (fits)
        memcpy(out, r.output, length);
    const char *said = r.errors ? mos_strndup(ctx->arena, r.errors, strcspn(r.errors, "\n")) : "";
    size_t came = r.output_length;
    free(r.output);
    free(r.errors);
    if (fits)
        return true;
    if (e)
        return mos_fail(ctx->error, MOS_ERROR_SYSTEM, e, "Cannot run %s to sign the parcel",
                        arguments[0]);
    if (r.timeout || r.status)
        return mos_fail(ctx->error, MOS_ERROR_SYSTEM, 0,
                        r.timeout ? "%s took longer than %d s to sign the parcel%s%s"
                                  : "%s did not sign the parcel (status %d)%s%s",
                        arguments[0], r.timeout ? SECONDS : r.status, *said ? ": " : "", said);
    return mos_fail(ctx->error, MOS_ERROR_SYSTEM, 0,
                    "What %s gave (%zu bytes) is no signature that the public key %s fits",
                    arguments[0], came, o->def->public_key->text);
}

static bool is_kept(struct outside *o, const uint8_t digest[32], uint8_t *out) {
    struct mos_ctx *ctx = o->plan->ctx;
    size_t length = o->signer.bits / 8, there;
    const char *path = kept_path(o, digest);
    char *kept;
    bool good = mos_exists(ctx, path) && mos_read_aside(ctx, path, MOST_SIGNATURE, &kept, &there) &&
                there == length &&
                mos_parcel_signed_by(o->key, digest, (const uint8_t *)kept, length);
    if (good)
        memcpy(out, kept, length);
    return good;
}

static bool sign(void *self, const uint8_t digest[32], uint8_t *out) {
    struct outside *o = self;
    struct mos_ctx *ctx = o->plan->ctx;
    size_t length = o->signer.bits / 8;
    if (is_kept(o, digest, out))
        return true;
    if (ctx->error->kind)
        return false;
    if (ctx->may_make && ctx->no_run)
        return mos_fail(ctx->error, MOS_ERROR_USAGE, 0,
                        "The parcel must be signed by %s, which --no-run forbids",
                        o->def->sign_with.items[0]->text);
    if (!ctx->may_make) {
        memset(out, 0, length);
        const char *text = mos_printf(ctx->arena, "the parcel's signatures: build asks %s for them",
                                      o->def->sign_with.items[0]->text);
        for (size_t i = 0; i < ctx->not_proved.count; i++)
            if (strcmp(mos_vec_pointer(&ctx->not_proved, i), text) == 0)
                return true;
        mos_vec_push_pointer(&ctx->not_proved, text);
        return true;
    }
    if (!mos_plan_commands_begin(o->plan))
        return false;
    bool good = is_kept(o, digest, out) || (!ctx->error->kind && ask(o, digest, out) &&
                                            mos_write_file(ctx, kept_path(o, digest), out, length));
    mos_plan_commands_end(o->plan);
    return good;
}

static bool outside_signer(struct mos_plan *plan, const struct mos_parcel_def *def,
                           struct mos_signer **out) {
    size_t length;
    const char *problem;
    uint8_t hash[MOS_SHA256_SIZE];
    char hex[65];
    const char *pem = read_pem(plan, def->public_key, &length);
    if (!pem)
        return false;
    struct mos_dt *dt = mos_dt_new(plan->ctx->arena, "keys");
    const char *name = key_name(plan, def);
    if (!mos_parcel_add_key(plan->ctx, dt, name, pem, length, &problem)) {
        useless(plan, def->public_key, problem);
        return false;
    }
    struct outside *o = mos_alloc(plan->ctx->arena, sizeof *o);
    uint32_t bits = 0;
    o->key = mos_dt_child(dt->root, "signature")->first_child;
    mos_dt_cell(o->key, "rsa,num-bits", &bits);
    mos_sha256(pem, length, hash);
    mos_sha256_hex(hash, hex);
    o->key_hex = mos_strdup(plan->ctx->arena, hex);
    o->plan = plan;
    o->def = def;
    o->signer = (struct mos_signer){.self = o, .key_name = name, .bits = bits, .sign = sign};
    *out = &o->signer;
    return true;
}

bool mos_plan_signer(struct mos_plan *plan, const struct mos_parcel_def *def,
                     struct mos_signer **out) {
    size_t length;
    const char *problem;
    *out = NULL;
    if (def && def->sign_with.count && mos_has(def->public_key))
        return outside_signer(plan, def, out);
    if (!def || !mos_has(def->key))
        return true;
    const char *pem = read_pem(plan, def->key, &length);
    if (!pem)
        return false;
    *out = mos_signer_from_pem(plan->ctx, key_name(plan, def), pem, length, &problem);
    if (!*out)
        useless(plan, def->key, problem);
    return *out != NULL;
}

/* ---- the loader's lock ---- */

struct lock {
    struct mos_plan *plan;
    const char *name, *pem;
    size_t length;
    const char *problem;
};

static bool add_key(void *self, struct mos_dt *dt) {
    struct lock *l = self;
    return mos_parcel_add_key(l->plan->ctx, dt, l->name, l->pem, l->length, &l->problem);
}

bool mos_plan_lock(struct mos_plan *plan) {
    const struct mos_parcel_def *def = plan->board->boot ? plan->board->boot->parcel : NULL;
    const struct mos_value *key = def ? def->key ? def->key : def->public_key : NULL;
    struct mos_piece_plan *p =
        def && mos_has(def->locks) ? mos_plan_piece(plan, def->locks->target) : NULL;
    struct lock l = {.plan = plan};
    if (!mos_plan_is_there(p) || !mos_has(key) || !plan->dialect || !plan->dialect->lock)
        return true;
    l.name = key_name(plan, def);
    l.pem = read_pem(plan, key, &l.length);
    if (!l.pem)
        return plan->ctx->error->kind == MOS_ERROR_NONE;
    const uint8_t *bytes = mos_plan_piece_bytes(plan, p);
    struct mos_buf out = {.arena = plan->ctx->arena};
    const char *problem;
    if (!bytes)
        return false;
    if (plan->dialect->lock(plan->ctx, bytes, (size_t)p->size, add_key, &l, &out, &problem)) {
        mos_plan_take_bytes(p, out.data, out.length);
        return true;
    }
    struct mos_findings *list = &plan->ctx->findings;
    struct mos_finding *f =
        mos_find(list, MOS_RULE_BOOT_UNSIGNED, "Loader %s cannot be locked: %s.", p->def->r.name,
                 l.problem ? l.problem : problem);
    mos_finding_at(list, f, def->locks->place);
    mos_finding_at(list, f, p->def->r.key_place);
    mos_finding_why(list, f, "The key that it asks for stands in its own tree.");
    mos_finding_try(
        list, f,
        "Use the form of the loader that brings its tree, or a build of it with the key in it.");
    return true;
}
