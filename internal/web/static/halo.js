// The halo of what shines: its light alone, spread in three widths, laid over the picture.
import * as THREE from 'three';

/** Widths as shares of the picture's height, and how much of the light each takes; stills spread it alike. */
const RINGS = [[0.006, 0.5], [0.024, 0.3], [0.09, 0.2]];

/** Rows of texels in which the light is spread. */
const ROWS = 192;

const VERTEX = 'varying vec2 vUv; void main() { vUv = uv; gl_Position = vec4(position.xy, 0.0, 1.0); }';

// A bell curve of standard deviation 4 steps.
const SPREAD = `uniform sampler2D tex; uniform vec2 step; varying vec2 vUv;
void main() {
  vec3 sum = vec3(0.0);
  float all = 0.0;
  for (int i = -12; i <= 12; i++) {
    float w = exp(-float(i * i) / 32.0);
    sum += texture2D(tex, vUv + step * float(i)).rgb * w;
    all += w;
  }
  gl_FragColor = vec4(sum / all, 1.0);
}`;

// What has been drawn is made light again, gets the halo, and is encoded as before (IEC 61966-2-1).
const LAY = `uniform sampler2D drawn; uniform sampler2D a; uniform sampler2D b; uniform sampler2D c; uniform vec3 shares; varying vec2 vUv;
void main() {
  vec3 was = texture2D(drawn, vUv).rgb;
  vec3 light = mix(was / 12.92, pow((was + 0.055) / 1.055, vec3(2.4)), step(0.04045, was));
  light += texture2D(a, vUv).rgb * shares.x + texture2D(b, vUv).rgb * shares.y + texture2D(c, vUv).rgb * shares.z;
  gl_FragColor = vec4(light, 1.0);
  #include <colorspace_fragment>
}`;

export class Halo {
  constructor(renderer) {
    this.renderer = renderer;
    this.scene = new THREE.Scene();
    this.camera = new THREE.OrthographicCamera();
    this.quad = new THREE.Mesh(new THREE.PlaneGeometry(2, 2));
    this.quad.frustumCulled = false;
    this.scene.add(this.quad);
    this.spread = new THREE.ShaderMaterial({ vertexShader: VERTEX, fragmentShader: SPREAD, uniforms: { tex: { value: null }, step: { value: new THREE.Vector2() } }, depthTest: false, depthWrite: false, toneMapped: false });
    this.lay = new THREE.ShaderMaterial({ vertexShader: VERTEX, fragmentShader: LAY, uniforms: { drawn: { value: null }, a: { value: null }, b: { value: null }, c: { value: null }, shares: { value: new THREE.Vector3() } }, depthTest: false, depthWrite: false, toneMapped: false });
  }

  /** Room for a picture of a proportion. */
  room(wide) {
    if (this.wide === wide) return;
    this.wide = wide;
    for (const t of [this.light, this.spare, ...this.rings || []]) t?.dispose();
    const made = () => new THREE.WebGLRenderTarget(wide, ROWS, { type: THREE.HalfFloatType, depthBuffer: true });
    this.light = made();
    this.spare = made();
    this.rings = RINGS.map(made);
  }

  /** Draws the halo of a scene in which nothing but what shines is bright, so much of it, over what the renderer has drawn. */
  draw(scene, camera, much) {
    const r = this.renderer, k = r.getPixelRatio(), auto = r.autoClear, clear = r.getClearColor(new THREE.Color()), alpha = r.getClearAlpha(), view = r.getViewport(new THREE.Vector4()), cut = r.getScissorTest();
    const box = view.clone().multiplyScalar(k).floor();
    if (this.drawn?.image.width !== box.z || this.drawn.image.height !== box.w) {
      this.drawn?.dispose();
      this.drawn = new THREE.FramebufferTexture(box.z, box.w);
    }
    r.copyFramebufferToTexture(this.drawn, new THREE.Vector2(box.x, box.y));
    this.room(Math.min(1024, Math.max(16, Math.round(ROWS * camera.aspect))));
    r.setClearColor(0, 1);
    r.setRenderTarget(this.light);
    r.clear();
    r.render(scene, camera);
    let from = this.light, had = 0;
    RINGS.forEach(([wide], i) => {
      // Bell curves one after the other add up by their squares.
      const by = Math.sqrt(wide * wide - had * had) * ROWS;
      this.pass(from, this.spare, by / 4 / this.wide, 0);
      this.pass(this.spare, this.rings[i], 0, by / 4 / ROWS);
      from = this.rings[i];
      had = wide;
    });
    r.setRenderTarget(null);
    r.setViewport(view);
    r.setScissorTest(cut);
    r.autoClear = false;
    const u = this.lay.uniforms;
    [u.a.value, u.b.value, u.c.value] = this.rings.map(t => t.texture);
    u.drawn.value = this.drawn;
    u.shares.value.set(...RINGS.map(([, share]) => share * much * r.toneMappingExposure));
    this.quad.material = this.lay;
    r.render(this.scene, this.camera);
    r.autoClear = auto;
    r.setClearColor(clear, alpha);
  }

  pass(from, to, x, y) {
    const u = this.spread.uniforms;
    u.tex.value = from.texture;
    u.step.value.set(x, y);
    this.quad.material = this.spread;
    this.renderer.setRenderTarget(to);
    this.renderer.render(this.scene, this.camera);
  }
}
