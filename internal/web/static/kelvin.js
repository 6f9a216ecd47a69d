// Colours of temperatures, as the server has them for stills.

/** CIE 1931 x, y: daylight from 4000 K on (CIE 15:2004), below it a fit of Planck's locus. */
export function chromaticity(kelvin) {
  if (kelvin >= 4000) {
    const t = kelvin, x = t <= 7000 ? -4.6070e9 / t ** 3 + 2.9678e6 / t ** 2 + 0.09911e3 / t + 0.244063 : -2.0064e9 / t ** 3 + 1.9018e6 / t ** 2 + 0.24748e3 / t + 0.237040;
    return [x, -3 * x * x + 2.87 * x - 0.275];
  }
  const t = Math.max(kelvin, 1667), x = -0.2661239e9 / t ** 3 - 0.2343589e6 / t ** 2 + 0.8776956e3 / t + 0.179910;
  return [x, t < 2222 ? -1.1063814 * x ** 3 - 1.34811020 * x * x + 2.18555832 * x - 0.20219683 : -0.9549476 * x ** 3 - 1.37418593 * x * x + 2.09137015 * x - 0.16748867];
}

/** Linear sRGB of luminance 1; what lies outside of sRGB is cut to its rim. */
export function colourOf(kelvin) {
  const [x, y] = chromaticity(kelvin), X = x / y, Z = (1 - x - y) / y;
  const rgb = [3.2404542 * X - 1.5371385 - 0.4985314 * Z, -0.9692660 * X + 1.8760108 + 0.0415560 * Z, 0.0556434 * X - 0.2040259 + 1.0572252 * Z].map(v => Math.max(0, v));
  const l = 0.2126 * rgb[0] + 0.7152 * rgb[1] + 0.0722 * rgb[2];
  return rgb.map(v => v / l);
}
