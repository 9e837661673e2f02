/* The hot kernels as one would write them in C, for comparison: the same arrays, the same arithmetic. */
#include <stdint.h>

enum { LANES = 16 };

void product(int64_t n, const uint64_t *row_ptr, const uint64_t *col, const float *b, const double *stretch,
             const double *inertia, const float *x, float *y) {
    for (int64_t i = 0; i < n; ++i) {
        float sx = 0, sy = 0, sz = 0;
        for (uint64_t k = row_ptr[i]; k < row_ptr[i + 1]; ++k) {
            const float *p = x + 3 * col[k], *q = b + 9 * k;
            sx += q[0] * p[0] + q[1] * p[1] + q[2] * p[2];
            sy += q[3] * p[0] + q[4] * p[1] + q[5] * p[2];
            sz += q[6] * p[0] + q[7] * p[1] + q[8] * p[2];
        }
        y[3 * i] = stretch[i] * sx + inertia[i] * x[3 * i];
        y[3 * i + 1] = stretch[i] * sy + inertia[i] * x[3 * i + 1];
        y[3 * i + 2] = stretch[i] * sz + inertia[i] * x[3 * i + 2];
    }
}

static void load(const double *nodes, const int64_t *corner, double x[18][LANES]) {
    for (int l = 0; l < LANES; ++l) {
        const double *o = nodes + 3 * corner[l];
        for (int c = 0; c < 6; ++c)
            for (int i = 0; i < 3; ++i) x[3 * c + i][l] = nodes[3 * corner[c * LANES + l] + i] - o[i];
    }
}

static void deform(double x[18][LANES], const double *g, const int64_t *tet, const double *inv, double s[19][LANES]) {
    int p = 3 * tet[2], q = 3 * tet[3];
    for (int i = 0; i < 3; ++i)
        for (int k = 0; k < 3; ++k)
            for (int l = 0; l < LANES; ++l)
                s[3 * i + k][l] = inv[l] * (x[i][l] * g[k] + x[3 + i][l] * g[3 + k] + x[p + i][l] * g[6 + k]
                                            + x[q + i][l] * g[9 + k]);
    for (int l = 0; l < LANES; ++l) {
        double f0 = s[0][l], f1 = s[1][l], f2 = s[2][l], f3 = s[3][l], f4 = s[4][l], f5 = s[5][l], f6 = s[6][l],
               f7 = s[7][l], f8 = s[8][l];
        s[9][l] = f4 * f8 - f5 * f7, s[10][l] = f5 * f6 - f3 * f8, s[11][l] = f3 * f7 - f4 * f6;
        s[12][l] = f2 * f7 - f1 * f8, s[13][l] = f0 * f8 - f2 * f6, s[14][l] = f1 * f6 - f0 * f7;
        s[15][l] = f1 * f5 - f2 * f4, s[16][l] = f2 * f3 - f0 * f5, s[17][l] = f0 * f4 - f1 * f3;
        s[18][l] = f0 * s[9][l] + f1 * s[10][l] + f2 * s[11][l];
    }
}

double energy(int64_t batches, const double *nodes, const int64_t *corner, const int64_t *axis, const double *fill,
              const double *mu, const double *lam, const double *dense, const double *inv, const double *volume,
              const int64_t *tets, const double *gradient) {
    double x[18][LANES], s[19][LANES], total = 0;
    for (int64_t b = 0; b < batches; ++b) {
        double part[LANES] = {0}, filled[LANES], mean[LANES] = {0}, crushed[LANES] = {0};
        for (int l = 0; l < LANES; ++l) filled[l] = 1e-300;
        load(nodes, corner + b * 6 * LANES, x);
        for (int t = 0; t < 4; ++t) {
            const double *w = fill + (b * 4 + t) * LANES;
            deform(x, gradient + (axis[b] * 4 + t) * 12, tets + 4 * t, inv + b * LANES, s);
            for (int l = 0; l < LANES; ++l) {
                double away = s[18][l] - 2.0, norm = 0;
                for (int i = 0; i < 9; ++i) norm += s[i][l] * s[i][l];
                part[l] += w[l] * (norm + away * away - 4.0);
                filled[l] += w[l];
                mean[l] += w[l] * (away + 1.0);
                double less = 0.2 - s[18][l] > 0.0 ? 0.2 - s[18][l] : 0.0;
                crushed[l] += w[l] * less * less;
            }
        }
        for (int l = 0; l < LANES; ++l)
            total += 0.5 * volume[b * LANES + l] * (mu[b * LANES + l] * part[l]
                                                    + lam[b * LANES + l] * mean[l] * mean[l] / filled[l]
                                                    + dense[b * LANES + l] * crushed[l]);
    }
    return total;
}

void gather(int64_t n, const double *source, const int64_t *ptr, const int64_t *item, double *out) {
    for (int64_t i = 0; i < n; ++i) {
        double s[3] = {0, 0, 0};
        for (int64_t k = ptr[i]; k < ptr[i + 1]; ++k)
            for (int a = 0; a < 3; ++a) s[a] += source[3 * item[k] + a];
        for (int a = 0; a < 3; ++a) out[3 * i + a] = s[a];
    }
}
