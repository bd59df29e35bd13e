// floor decodes every Deflate tile of a TIFF file with libdeflate and prints the processor time that it took, in nanoseconds, the least of
// so many rounds: what Verdex is measured against by make bench.
//
//	cc -O2 -o floor floor.c -ldeflate
//	floor FILE.tif ROUNDS
#include <libdeflate.h>
#include <stdint.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <time.h>

static uint8_t *file;

static uint64_t number(size_t at, int bytes) {
	uint64_t v = 0;
	memcpy(&v, file + at, bytes); // little-endian, as the machine is
	return v;
}

int main(int argc, char **argv) {
	if (argc != 3) return 2;
	FILE *f = fopen(argv[1], "rb");
	if (!f) return perror(argv[1]), 1;
	fseek(f, 0, SEEK_END);
	long size = ftell(f);
	rewind(f);
	file = malloc(size);
	if (!file || fread(file, 1, size, f) != (size_t)size) return 1;
	fclose(f);

	int big = number(2, 2) == 43, wide = big ? 8 : 4, entry = big ? 20 : 12;
	size_t directory = number(big ? 8 : 4, wide);
	int entries = number(directory, big ? 8 : 2);
	size_t first = directory + (big ? 8 : 2);
	uint64_t n = 0, cells = 1, at[2] = {0, 0};
	int bytes[2] = {0, 0};
	for (int i = 0; i < entries; i++) {
		size_t e = first + (size_t)i * entry;
		int tag = number(e, 2), type = number(e + 2, 2), width = type == 3 ? 2 : type == 4 ? 4 : 8;
		uint64_t count = number(e + 4, wide);
		size_t value = count * width > (uint64_t)wide ? number(e + 4 + wide, wide) : e + 4 + wide;
		if (tag == 322 || tag == 323) cells *= number(value, width);
		if (tag == 324 || tag == 325) at[tag - 324] = value, bytes[tag - 324] = width, n = count;
	}
	uint8_t *out = malloc(cells);
	struct libdeflate_decompressor *d = libdeflate_alloc_decompressor();
	long least = 0;
	for (int round = 0; round < atoi(argv[2]); round++) {
		struct timespec a, b;
		clock_gettime(CLOCK_PROCESS_CPUTIME_ID, &a);
		for (uint64_t i = 0; i < n; i++) {
			uint64_t from = number(at[0] + i * bytes[0], bytes[0]), length = number(at[1] + i * bytes[1], bytes[1]);
			if (libdeflate_zlib_decompress(d, file + from, length, out, cells, NULL) != LIBDEFLATE_SUCCESS)
				return fprintf(stderr, "tile %llu is damaged\n", (unsigned long long)i), 1;
		}
		clock_gettime(CLOCK_PROCESS_CPUTIME_ID, &b);
		long took = (b.tv_sec - a.tv_sec) * 1000000000L + b.tv_nsec - a.tv_nsec;
		if (round == 0 || took < least) least = took;
	}
	printf("%ld\n", least);
	return 0;
}
