/* For a driver: the source of a bench that makes what a snippet's entries take, and calls them.
 *
 *     #include "hot_anvil_driver.h"
 *     #include "tides.hpp"
 *
 *     HOT_ANVIL_PREPARE(const int16_t *levels, int32_t n) { return new Tides(levels, n); }
 *     HOT_ANVIL_CALL(sort_tides) { sort_tides(*static_cast<Tides *>(prepared)); }
 *     HOT_ANVIL_RESULT(int64_t) { return static_cast<Tides *>(prepared)->total(); }
 *     HOT_ANVIL_RELEASE { delete static_cast<Tides *>(prepared); }
 *
 * The bench gives values for what HOT_ANVIL_PREPARE and HOT_ANVIL_RESULT take, as for any entry;
 * what the result returns, and every buffer that either may write, is compared. One HOT_ANVIL_CALL
 * for each entry: only it is timed. HOT_ANVIL_RELEASE may be left out.
 */
#ifndef HOT_ANVIL_DRIVER_H
#define HOT_ANVIL_DRIVER_H

#ifdef __cplusplus
#define HOT_ANVIL_C extern "C"
#else
#define HOT_ANVIL_C
#endif

#define HOT_ANVIL_PREPARE(...) HOT_ANVIL_C void *hot_anvil_prepare(__VA_ARGS__)
#define HOT_ANVIL_CALL(entry) HOT_ANVIL_C void hot_anvil_call_##entry(void *prepared)
#define HOT_ANVIL_RESULT(type, ...) HOT_ANVIL_C type hot_anvil_result(void *prepared, ##__VA_ARGS__)
#define HOT_ANVIL_RELEASE HOT_ANVIL_C void hot_anvil_release(void *prepared)

#endif
