/* Rules: const plan in, findings out.  Rules whose finding arises where a text is read (schema,
 * references, syntax, fragments, pieces) report from there; the others stand here, one file a
 * family. */
#ifndef MOS_RULES_RULES_H
#define MOS_RULES_RULES_H

#include "bindings/bindings.h"
#include "plan/plan.h"

enum mos_rule_stage {
    MOS_STAGE_PLAN,    /* the plan is made */
    MOS_STAGE_VOLUMES, /* volumes have been counted or written too */
};

/* Runs all rules of a stage; their findings go to plan->ctx->findings. */
void mos_rules_run(const struct mos_plan *plan, enum mos_rule_stage stage);

/* What came of judging nodes by bindings. */
struct mos_bindings_count {
    size_t judged, without; /* nodes; those that no file is for */
    size_t unknown;         /* parts of files that could not be judged */
    size_t unread;          /* files that cannot be read */
    size_t untold;          /* findings that are one too many */
};
/* Judges all nodes of a tree, whoever wrote them: findings of tree.binding in ctx. */
void mos_rules_bindings(struct mos_ctx *ctx, struct mos_bindings *b, struct mos_dt *dt,
                        struct mos_bindings_count *count);

/* One family each, in the file of that name.  They are called by mos_rules_run alone, which knows
 * the stage that each needs; they read the plan, add findings, and stay silent where a value that
 * they need is broken (whoever broke it has said so). */
void mos_rule_layout(const struct mos_plan *plan);
void mos_rule_layout_facts(const struct mos_plan *plan);
void mos_rule_layout_logical(const struct mos_plan *plan);
void mos_rule_layout_slots(const struct mos_plan *plan);
void mos_rule_flash(const struct mos_plan *plan);
void mos_rule_volume_use(const struct mos_plan *plan);
void mos_rule_piece(const struct mos_plan *plan);
void mos_rule_board(const struct mos_plan *plan);
void mos_rule_programming(const struct mos_plan *plan);
void mos_rule_acceptance(const struct mos_plan *plan);
void mos_rule_budget(const struct mos_plan *plan);
void mos_rule_access(const struct mos_plan *plan);
void mos_rule_access_files(const struct mos_plan *plan);
void mos_rule_mounts(const struct mos_plan *plan);
void mos_rule_ram(const struct mos_plan *plan);
void mos_rule_boot(const struct mos_plan *plan);
void mos_rule_fallback(const struct mos_plan *plan);
void mos_rule_stage_files(const struct mos_plan *plan);
void mos_rule_stages(const struct mos_plan *plan);
void mos_rule_direct(const struct mos_plan *plan);
void mos_rule_search(const struct mos_plan *plan);
void mos_rule_settings(const struct mos_plan *plan);
void mos_rule_order(const struct mos_plan *plan);
void mos_rule_idle(const struct mos_plan *plan);
void mos_rule_system_files(const struct mos_plan *plan);
void mos_rule_fallback_files(const struct mos_plan *plan);
void mos_rule_flash_string(const struct mos_plan *plan);
void mos_rule_access_folders(const struct mos_plan *plan);
void mos_rule_modules(const struct mos_plan *plan);
void mos_rule_module_index(const struct mos_plan *plan);
void mos_rule_device_files(const struct mos_plan *plan);
void mos_rule_tree_use(const struct mos_plan *plan);
void mos_rule_tree_claims(const struct mos_plan *plan);
void mos_rule_tree_bindings(const struct mos_plan *plan);
void mos_rule_kernel_drivers(const struct mos_plan *plan);
void mos_rule_kernel_requests(const struct mos_plan *plan);
/* The same of a configuration that no board has. */
void mos_tell_requests(struct mos_ctx *ctx, struct mos_kc_config *c,
                       const struct mos_kc_requests *all);
void mos_rule_loader_env(const struct mos_plan *plan);
void mos_rule_rom(const struct mos_plan *plan);
void mos_rule_loader_build(const struct mos_plan *plan);
void mos_rule_lock(const struct mos_plan *plan);
void mos_rule_ramdisk_root(const struct mos_plan *plan);
void mos_rule_first_start(const struct mos_plan *plan);
void mos_rule_first_users(const struct mos_plan *plan);
void mos_rule_system_network(const struct mos_plan *plan);
void mos_rule_network(const struct mos_plan *plan);
void mos_rule_console(const struct mos_plan *plan);
void mos_rule_kernel(const struct mos_plan *plan);
void mos_rule_start(const struct mos_plan *plan);
void mos_rule_console_files(const struct mos_plan *plan);
void mos_rule_loader(const struct mos_plan *plan);
void mos_rule_volume(const struct mos_plan *plan);
void mos_rule_fills(const struct mos_plan *plan);

/* stages.c: how what starts it would see a piece, by its first bytes: a word of `accepts`. */
const char *mos_piece_form(const struct mos_piece_plan *piece);

#endif
