/* What the row of this dialect (u-boot.c) is put together from. */
#ifndef MOS_LOADERS_U_BOOT_U_BOOT_H
#define MOS_LOADERS_U_BOOT_U_BOOT_H

#include "boot/dialect.h"

/* script.c: the texts, see struct mos_dialect for each. */
/* starts.c: as mos_dialect.starts_file. */
void ub_starts_file(struct mos_arena *arena, const char *medium, unsigned partition,
                    const char *path, struct mos_map *out);
void ub_write_script(const struct mos_boot_script *script, struct mos_buf *out);
void ub_write_network(const struct mos_boot_script *script, const struct mos_network_way *way,
                      struct mos_buf *out);
void ub_wrap_script(const struct mos_boot_script *script, const char *text, size_t length,
                    struct mos_buf *out);
void ub_write_menu(const struct mos_boot_script *script, struct mos_buf *out);
void ub_write_variables(const struct mos_boot_script *script, struct mos_arena *arena,
                        void (*set)(void *self, const char *name, const char *value), void *self);
void ub_write_emmc_setup(const struct mos_emmc_setup *setup, struct mos_buf *out);
void ub_write_flash_program(const struct mos_flash_program *program, struct mos_buf *out);

/* follow.c: see struct mos_loader_language. */
struct mos_vec ub_follow(struct mos_arena *arena, const struct mos_map *variables);
extern const struct mos_loader_verb ub_verbs[];

/* orders.c */
extern const struct mos_loader_orders ub_orders;

/* questions.c: see struct mos_loader_questions. */
extern const struct mos_loader_questions ub_questions;

/* start.c */
extern const struct sim_loader ub_simulated;

#endif
