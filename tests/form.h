/* The form of what a person reads: every run of the program in every command test passes here. */
#ifndef MOS_TESTS_FORM_H
#define MOS_TESTS_FORM_H

#include <jansson.h>

/* Text as a terminal has it: each finding has its reason and its way out, sentences end, sizes have
 * at most four digits, one is no plural.  What breaks this is shown and fails the test. */
void form_of_text(const char *text);
/* The findings of one document. */
void form_of_document(const json_t *document);

#endif
