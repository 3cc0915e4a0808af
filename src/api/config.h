/* A job on configurations, for the config*.c of this folder. */
#ifndef MOS_API_CONFIG_H
#define MOS_API_CONFIG_H

#include "api/run.h"

#include "kconfig/lack.h"

struct config_job {
    mosaicum *m;
    const struct mosaicum_config *request;
    const char *selector;                 /* of a board whose configuration is meant; or NULL */
    struct run_task *task;                /* … once it is planned */
    const struct mos_kernel_config *said; /* … what it says: start and fragments */
    const char *folder, *arch;            /* of the sources; their name of the processor */
    struct mos_kc_tree *tree;
    struct mos_kc_config *config;
    struct mos_vec parts; /* of struct mos_config_part * */
    struct mos_kc_requests all;
};

/* config-job.c: reads the start and the fragments that were given; false with an error. */
bool config_parts(struct config_job *j);
/* Reads the tree, the start and the fragments, or the board's, and settles them.  false
 * with an error or a finding. */
bool config_settle(struct config_job *j);
/* Reads a file of settings; NULL with an error. */
struct mos_config_part *config_part(struct config_job *j, const char *path);
/* Writes what was asked for. */
void config_put(struct config_job *j, const void *text, size_t length);
/* A symbol by its name, with CONFIG_ or without; NULL with the error. */
const struct mos_kc_symbol *config_symbol(struct config_job *j, const char *name);

/* config-why.c */
void config_why(void *job);
void config_search(void *job);
/* config-change.c */
void config_compare(void *job);
void config_minimal(void *job);
/* config-cost.c */
void config_cost(void *job);
/* config-ask.c */
void config_ask(void *job);

#endif
