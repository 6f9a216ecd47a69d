// The model in 3D and its flat map: one viewport that keeps its camera through all stages.
import * as THREE from 'three';
import { OrbitControls } from './vendor/three/OrbitControls.js';
import { RectAreaLightUniformsLib } from './vendor/three/lights/RectAreaLightUniformsLib.js';
import { setColour } from './dom.js';
import { cut, heights, move, places } from './shape.js';
import { colourOf } from './kelvin.js';
import { Halo } from './halo.js';

/** How each way of showing picks from the pictures that the server sends. */
const SHOWS = {
  base: { view: 'base', pick: [1, 1, 1], grey: false, srgb: true },
  roughness: { view: 'orm', pick: [0, 1, 0], grey: true },
  metallic: { view: 'orm', pick: [0, 0, 1], grey: true },
  occlusion: { view: 'orm', pick: [1, 0, 0], grey: true },
  normal: { view: 'normal', pick: [1, 1, 1], grey: false },
  height: { view: 'height', pick: [1, 0, 0], grey: true },
  emissive: { view: 'emissive', pick: [1, 1, 1], grey: false, srgb: true },
  opacity: { view: 'opacity', pick: [1, 0, 0], grey: true },
  where: { view: 'where', pick: [1, 0, 0], grey: true },
  map: { view: 'map', pick: [1, 1, 1], grey: false },
  checks: { view: 'base', pick: [1, 1, 1], grey: false, srgb: true, checks: true },
  texels: { view: 'base', pick: [1, 1, 1], grey: false, srgb: true, cells: 16 },
};

/** Views that there are only where some layer lays their channel down. */
const EXTRA = ['emissive', 'opacity'];

/** The height, in metres, that a texel of the view “shape” reaches up and down. */
const SHAPE_RANGE = 0.2;

/** How light of 1 from the surroundings is exposed before any stops; stills are exposed alike. */
const EXPOSURE = 1.15;

/** Surroundings that are a picture of the asset. */
const OWN = { nits: 1400, key: [0, 1, 0], keyLight: [0, 0, 0] };

/** Half of the longer side of a film, in millimetres, which focal lengths count against. */
const HALF_FILM = 18;

/** Rows of texels that come at once. */
const SQUARE = 64;

// Shows texel values as they are: no light, no tone curve.
const FLAT_VERTEX = 'varying vec2 vUv; void main() { vUv = uv; gl_Position = projectionMatrix * modelViewMatrix * vec4(position, 1.0); }';
const FLAT_FRAGMENT = `uniform sampler2D tex; uniform vec3 pick; uniform bool grey; uniform bool srgb; uniform bool checks; uniform sampler2D orm; uniform vec4 range; uniform float mirror; uniform float cells; varying vec2 vUv;
void main() {
  vec3 c = texture2D(tex, vUv).rgb, linear = c;
  if (srgb) c = mix(c * 12.92, 1.055 * pow(max(c, vec3(0.0)), vec3(1.0 / 2.4)) - 0.055, step(0.0031308, c));
  if (checks) {
    float metal = texture2D(orm, vUv).b, light = dot(linear, vec3(0.2126, 0.7152, 0.0722));
    vec3 plain = vec3(0.22 + 0.4 * dot(c, vec3(0.3333)));
    if (metal > range.z && metal < range.w) c = vec3(0.34, 0.70, 0.91);
    else if (metal >= range.w) c = light < mirror ? vec3(0.80, 0.47, 0.65) : plain;
    else if (max(c.r, max(c.g, c.b)) < range.x) c = vec3(0.84, 0.37, 0.0);
    else if (min(c.r, min(c.g, c.b)) > range.y) c = vec3(0.94, 0.89, 0.26);
    else c = plain;
  }
  if (cells > 0.0) {
    vec2 k = floor(vUv * cells);
    c = mix(c, mod(k.x + k.y, 2.0) < 0.5 ? vec3(0.15) : vec3(0.85), 0.6);
  }
  gl_FragColor = vec4(grey ? vec3(dot(c, pick)) : c, 1.0);
}`;

// Areas throw the shadows of the spots that stand for them, which are the last of all.
THREE.ShaderChunk.lights_fragment_begin = THREE.ShaderChunk.lights_fragment_begin.replace('rectAreaLight = rectAreaLights[ i ];', `rectAreaLight = rectAreaLights[ i ];
#if defined( USE_SHADOWMAP ) && defined( AREA_SHADOWS ) && UNROLLED_LOOP_INDEX < AREA_SHADOWS
{
  SpotLightShadow of = spotLightShadows[ NUM_SPOT_LIGHT_SHADOWS - AREA_SHADOWS + UNROLLED_LOOP_INDEX ];
  rectAreaLight.color *= receiveShadow ? getShadow( spotShadowMap[ NUM_SPOT_LIGHT_SHADOWS - AREA_SHADOWS + UNROLLED_LOOP_INDEX ], of.shadowMapSize, of.shadowIntensity, of.shadowBias, of.shadowRadius, vSpotLightCoord[ NUM_SPOT_LIGHT_SHADOWS - AREA_SHADOWS + UNROLLED_LOOP_INDEX ] ) : 1.0;
}
#endif`);

// In a crevice light that a coloured surface passes on to itself brightens it again: the occlusion that many bounces leave, as a cubic of the one
// that is baked, by albedo (Jiménez et al., Practical Real-Time Strategies for Accurate Indirect Occlusion, 2016, §5).
THREE.ShaderChunk.aomap_fragment = THREE.ShaderChunk.aomap_fragment.replace('reflectedLight.indirectDiffuse *= ambientOcclusion;', `{
  vec3 c = diffuseColor.rgb;
  float x = ambientOcclusion;
  reflectedLight.indirectDiffuse *= max(vec3(x), ((x * (2.0404 * c - 0.3324) + (0.6417 - 4.7951 * c)) * x + (2.7552 * c + 0.6903)) * x);
}`);

/** Whether pages are drawn without graphics hardware. */
function drawsInSoftware() {
  const gl = document.createElement('canvas').getContext('webgl2'), info = gl?.getExtension('WEBGL_debug_renderer_info');
  const software = !!info && /swiftshader|llvmpipe|softpipe|software/i.test(gl.getParameter(info.UNMASKED_RENDERER_WEBGL));
  gl?.getExtension('WEBGL_lose_context')?.loseContext();
  return software;
}

export class Viewport {
  /** @param {HTMLCanvasElement} canvas @param {HTMLCanvasElement} flat */
  constructor(canvas, flat, physical) {
    this.canvas = canvas;
    this.physical = { range: [physical.dark, physical.light, physical.none, physical.whole], mirror: physical.mirror };
    this.flatCanvas = flat;
    this.mode = 'lit';
    this.sets = new Map();
    this.pictures = new Map(); // by set, then by view; they may come before the set's mesh
    this.maps = new Map();
    this.turn = 0;
    this.flatSet = '';
    this.flatView = { zoom: 1, x: 0, y: 0 };
    this.frames = 0;
    this.nine = false; // a square that repeats is shown with its copies
    this.worked = -1; // the lamp that is worked on
    this.shaped = null; // how much the height moves the surface; null for not at all
    // Without graphics hardware multisampling triples the time of a frame, and shadows take as long as several.
    this.software = drawsInSoftware();
    const r = this.renderer = new THREE.WebGLRenderer({ canvas, antialias: !this.software, preserveDrawingBuffer: true });
    r.toneMapping = THREE.NeutralToneMapping;
    r.toneMappingExposure = 1.15;
    r.shadowMap.enabled = true;
    r.shadowMap.type = THREE.VSMShadowMap;
    r.shadowMap.autoUpdate = false;
    const s = this.scene = new THREE.Scene();
    s.background = new THREE.Color('#2f2f2f');
    this.camera = new THREE.PerspectiveCamera(32, 1, 0.01, 100);
    this.light = new THREE.DirectionalLight('#fff2e0', 2.3);
    this.light.castShadow = true;
    this.light.shadow.mapSize.setScalar(this.software ? 512 : 2048);
    this.light.shadow.bias = -0.0006;
    this.light.shadow.normalBias = 0.02;
    this.light.shadow.radius = this.software ? 2 : 4;
    this.light.shadow.blurSamples = this.software ? 4 : 16;
    s.add(this.light, this.light.target);
    this.orbit = new OrbitControls(this.camera, canvas);
    this.orbit.enableDamping = false;
    this.orbit.addEventListener('change', () => this.draw());
    this.orbit.addEventListener('start', () => { this.framed = false; if (this.through) { this.through = null; this.rim?.(null); this.left?.(); } });
    this.group = new THREE.Group();
    s.add(this.group);
    this.ground = groundDisc();
    s.add(this.ground);
    new ResizeObserver(() => { this.resize(); }).observe(canvas.parentElement);
    this.lag = 100; // ms from the drawing of a frame to the next that can be drawn
    this.canvas.addEventListener('pointermove', e => { this.pointer = e; });
    this.canvas.addEventListener('pointerdown', e => this.grab(e), true);
    this.canvas.addEventListener('pointerleave', () => { this.pointer = null; });
    new ResizeObserver(() => { this.drawFlat(); }).observe(flat.parentElement);
    this.flatPointer();
    this.checker = checker();
    this.resize();
  }

  /** Lights the model by surroundings; asked again for others, the last asked for hold. */
  async loadEnvironment(name) {
    if (this.skyName === name) return;
    this.skyName = name;
    const own = name.startsWith('picture:') && name.slice(8), size = this.software ? 128 : 256;
    const answer = await fetch(own ? `${this.api}/sky/${own}/${size}` : `/api/surroundings/${name}/${size}`);
    if (!answer.ok) throw new Error('The surroundings could not be loaded.');
    const px = new Uint16Array(await answer.arrayBuffer());
    if (this.skyName !== name) return;
    const old = this.scene.environment;
    this.scene.environment = cubeOf(px, size);
    old?.dispose();
    this.backdrop();
    this.setTurn(this.turn);
  }

  /** Turns the light and the environment round the model, in radians. */
  setTurn(a) {
    this.turn = a;
    this.scene.environmentRotation.set(0, a, 0);
    this.scene.backgroundRotation.set(0, a, 0);
    const key = this.key || [0.55, 0.62, 0.56];
    const d = new THREE.Vector3(...key).applyAxisAngle(new THREE.Vector3(0, 1, 0), a);
    const size = this.size || 3;
    this.light.target.position.copy(this.middle || new THREE.Vector3());
    this.light.position.copy(this.light.target.position).addScaledVector(d.normalize(), size * 2);
    this.renderer.shadowMap.needsUpdate = true;
    this.draw();
  }

  /** Lights the model as a setup says; table has the surroundings that there are. */
  lightBy(setup, table) {
    const of = table.find(k => k.name === setup.sky) || OWN, shown = JSON.stringify(setup);
    if (shown === this.litBy) return;
    this.litBy = shown;
    this.setup = setup;
    this.loadEnvironment(setup.sky).catch(() => { this.dark = true; this.draw(); this.failed?.('The light could not be loaded; reload the page.'); });
    this.scene.environmentIntensity = setup.strength;
    this.renderer.toneMappingExposure = EXPOSURE * 2 ** setup.exposure;
    this.key = of.key;
    const most = Math.max(...of.keyLight);
    this.light.visible = most > 0 && setup.strength > 0;
    if (most > 0) this.light.color.setRGB(...of.keyLight.map(v => v / most), THREE.LinearSRGBColorSpace);
    this.light.intensity = most * setup.strength;
    this.unit = of.nits;
    this.backdrop();
    this.putLamps(setup.lamps);
    const surface = JSON.stringify(setup.surface);
    if (surface !== this.surfaceKey) { this.surfaceKey = surface; this.apply(); }
    this.setTurn(setup.turn * Math.PI / 180);
  }

  /** What stands behind the model. */
  backdrop() {
    const b = this.setup?.backdrop;
    if (!b) return;
    const sky = b.kind === 'surroundings' && this.scene.environment;
    this.scene.background = sky || new THREE.Color(b.hex);
    this.scene.backgroundBlurriness = b.blur;
    this.scene.backgroundIntensity = (sky ? b.dim * this.setup.strength : 1);
    this.ground.visible = b.ground && !this.sides && !sky;
    this.draw();
  }

  /**
   * Puts lamps up; their strengths are physical, light of the surroundings stands for so many nits. Shadows of points and areas are those of a
   * lamp whose cone has the model in it. Without graphics hardware one light at a time throws one: the lamp that is worked on, or else the
   * surroundings' own.
   */
  putLamps(lamps) {
    const chosen = lamps[this.worked], one = this.software, casts = l => !one || (chosen && !chosen.off ? l === chosen : !this.light.visible && l === lamps.find(k => !k.off));
    const key = JSON.stringify([lamps, this.unit, lamps.map(casts), this.size]);
    if (key === this.lampKey) return;
    this.lampKey = key;
    if (this.lamps) {
      this.scene.remove(this.lamps);
      this.lamps.traverse(l => { l.shadow?.map?.dispose(); l.dispose?.(); });
    }
    this.lamps = new THREE.Group();
    this.light.castShadow = !one || !chosen || chosen.off;
    const stand = [], areas = [[], []], middle = this.middle || new THREE.Vector3(), r = (this.size || 1) / 2;
    const shadow = (light, soft, far) => {
      light.castShadow = true;
      const s = light.shadow, c = s.camera, side = one ? 512 : 1024;
      s.mapSize.setScalar(side);
      s.radius = Math.min(24, Math.max(2, soft * side / 1024));
      s.blurSamples = one ? 8 : 16;
      s.normalBias = 0.02;
      s.bias = -0.0006;
      if (light.isDirectionalLight) Object.assign(c, { left: -1.6 * r, right: 1.6 * r, bottom: -1.6 * r, top: 1.6 * r });
      c.near = Math.max(0.01, far - 4 * r);
      c.far = far + 4 * r;
      c.updateProjectionMatrix();
    };
    const put = (light, at, aim) => {
      light.position.copy(at);
      if (light.target) { light.target.position.copy(aim); this.lamps.add(light.target); }
      this.lamps.add(light);
    };
    for (const l of lamps) {
      if (l.off || !l.strength) continue;
      const colour = new THREE.Color().setRGB(...colourOf(l.kelvin), THREE.LinearSRGBColorSpace), at = new THREE.Vector3(...l.at), aim = new THREE.Vector3(...l.aim);
      // The cone, from the lamp, that the whole model lies in; a lamp within the model's ball has none.
      const far = at.distanceTo(middle), cone = far > 1.02 * r ? Math.min(1.45, Math.asin(r / far) * 1.06) : 0, soft = l.wide / Math.max(far, r) * 128;
      if (l.kind === 'point') {
        const candela = l.strength / (4 * Math.PI) / this.unit, ok = cone && casts(l);
        const light = ok ? new THREE.SpotLight(colour, candela, 0, cone) : new THREE.PointLight(colour, candela);
        if (ok) shadow(light, soft, far);
        put(light, at, middle);
      } else if (l.kind === 'sun') {
        const light = new THREE.DirectionalLight(colour, l.strength / this.unit);
        if (casts(l)) shadow(light, 3, at.distanceTo(aim));
        put(light, at, aim);
      } else if (l.kind === 'spot') {
        const outer = Math.cos(l.cone * Math.PI / 180), inner = Math.max(outer + 1e-6, Math.cos(l.cone * (1 - l.soft) * Math.PI / 180));
        const light = new THREE.SpotLight(colour, l.strength / (2 * Math.PI * (1 - (inner + outer) / 2)) / this.unit, 0, l.cone * Math.PI / 180, l.soft);
        if (casts(l)) shadow(light, soft, far);
        put(light, at, aim);
      } else if (l.kind === 'area') {
        if (!this.areas) { RectAreaLightUniformsLib.init(); this.areas = true; }
        // A disk is drawn as the square of its area.
        const wide = l.high ? l.wide : l.wide * Math.sqrt(Math.PI) / 2, high = l.high || wide;
        const light = new THREE.RectAreaLight(colour, l.strength / (Math.PI * wide * high) / this.unit, wide, high), ok = cone && casts(l);
        light.position.copy(at);
        light.lookAt(aim);
        areas[ok ? 0 : 1].push(light);
        if (ok) {
          const dark = new THREE.SpotLight(0, 0, 0, cone);
          shadow(dark, soft, far);
          stand.push([dark, at]);
        }
      }
    }
    // Those that stand for areas come last, in the same order: so the shader finds them.
    for (const [dark, at] of stand) put(dark, at, middle);
    this.lamps.add(...areas[0], ...areas[1]);
    if (this.areaShadows !== stand.length) {
      this.areaShadows = stand.length;
      this.apply();
    }
    this.scene.add(this.lamps);
    this.renderer.shadowMap.needsUpdate = true;
  }

  /** Says which lamp is worked on, -1 for none. */
  work(i) {
    this.worked = i;
    if (this.setup) { this.putLamps(this.setup.lamps); this.draw(); }
  }

  /**
   * Shows where lamps stand, and has them dragged in the plane of the view.
   * @param {object[]} lamps @param {number} chosen @param {{choose: (i: number) => void, live: (i: number, at: number[]) => void, commit: (i: number, at: number[]) => void}} on
   */
  showLamps(lamps, chosen, on) {
    const key = JSON.stringify([lamps, chosen]);
    if (key === this.marksKey) return;
    this.marksKey = key;
    if (this.lampMarks) {
      this.scene.remove(this.lampMarks);
      this.lampMarks.traverse(m => { m.geometry?.dispose(); m.material?.dispose(); });
      this.lampMarks = null;
    }
    this.lampsOn = on;
    if (lamps.length && this.size) {
      const g = this.lampMarks = new THREE.Group(), r = this.size * 0.014;
      lamps.forEach((l, i) => {
        const colour = new THREE.Color().setRGB(...colourOf(l.kelvin).map(v => Math.min(1, v)), THREE.LinearSRGBColorSpace), stuff = o => new THREE.MeshBasicMaterial({ color: i === chosen ? '#58b09c' : colour, depthTest: false, transparent: true, opacity: o, toneMapped: false });
        const ball = new THREE.Mesh(new THREE.SphereGeometry(i === chosen ? r * 1.3 : r, 20, 12), stuff(l.off ? 0.35 : 0.95));
        ball.position.set(...l.at);
        ball.renderOrder = 9;
        const line = new THREE.Line(new THREE.BufferGeometry().setFromPoints([new THREE.Vector3(...l.at), new THREE.Vector3(...l.aim)]), new THREE.LineBasicMaterial({ color: i === chosen ? '#58b09c' : colour, transparent: true, opacity: i === chosen ? 0.7 : 0.25, toneMapped: false }));
        g.add(ball, line);
        if (l.kind === 'area') {
          const wide = l.wide, high = l.high || l.wide, shape = l.high ? new THREE.PlaneGeometry(wide, high) : new THREE.CircleGeometry(wide / 2, 32);
          const pane = new THREE.Mesh(shape, new THREE.MeshBasicMaterial({ color: colour, transparent: true, opacity: 0.25, side: THREE.DoubleSide, depthWrite: false, toneMapped: false }));
          pane.position.set(...l.at);
          pane.lookAt(...l.aim);
          g.add(pane);
        }
      });
      this.scene.add(g);
    }
    this.lampsAt = lamps.map(l => l.at);
    this.draw();
  }

  /** Drags the lamp under the pointer; false when there is none. */
  grabLamp(e) {
    if (!this.lampMarks || e.button) return false;
    let best = -1, near = 16;
    this.lampsAt.forEach((at, i) => {
      const [x, y] = this.screenOf(at), d = Math.hypot(x - e.clientX, y - e.clientY);
      if (d < near) { best = i; near = d; }
    });
    if (best < 0) return false;
    e.stopImmediatePropagation();
    const c = this.canvas, on = this.lampsOn, start = new THREE.Vector3(...this.lampsAt[best]), way = this.camera.getWorldDirection(new THREE.Vector3());
    const plane = new THREE.Plane().setFromNormalAndCoplanarPoint(way, start), ray = this.ray ||= new THREE.Raycaster();
    this.grabbed = true;
    setTimeout(() => { this.grabbed = false; }, 0);
    let now = null;
    c.setPointerCapture(e.pointerId);
    const y0 = e.clientY;
    const move = m => {
      const [o, d] = this.rayAt(m.clientX, m.clientY);
      let at = new THREE.Ray(o, d).intersectPlane(plane, new THREE.Vector3());
      if (m.shiftKey) at = start.clone().addScaledVector(way, (y0 - m.clientY) * this.metresPerPx(start.toArray())); // nearer and farther
      if (!at) return;
      now = at.toArray();
      on.live(best, now);
    };
    c.addEventListener('pointermove', move);
    c.addEventListener('pointerup', () => { c.removeEventListener('pointermove', move); if (now) on.commit(best, now); else on.choose(best); }, { once: true });
    return true;
  }

  /** The view as a frame has it: where the eye is, where it looks, and the focal length of a frame 3 : 2 as high as the view. */
  view() {
    return { eye: this.camera.position.toArray(), at: this.orbit.target.toArray(), mm: Number((HALF_FILM / (Math.tan(this.camera.fov * Math.PI / 360) * 1.5)).toPrecision(3)) };
  }

  /** Half of a frame's height at a distance of 1. */
  tallOf(f) { return HALF_FILM / f.mm * Math.min(1, f.high / f.wide); }

  /** Looks through a frame, whose rim is drawn over the view; null gives the view of before back. */
  lookThrough(f) {
    if (f && !this.through) this.before2 = { eye: this.camera.position.clone(), at: this.orbit.target.clone(), fov: this.camera.fov };
    const back = !f && this.through && this.before2;
    this.through = f;
    if (back) {
      this.camera.position.copy(back.eye);
      this.orbit.target.copy(back.at);
      this.camera.fov = back.fov;
    }
    if (f) {
      this.framed = false;
      this.camera.position.set(...f.eye);
      this.orbit.target.set(...f.at);
    }
    this.fitFrame();
    this.orbit.update();
    this.draw();
  }

  /** Has the frame that is looked through fill the view, and says where its rim lies. */
  fitFrame() {
    const f = this.through;
    if (f) {
      const view = this.camera.aspect, of = f.wide / f.high, share = 0.9;
      this.camera.fov = 2 * Math.atan(this.tallOf(f) * Math.max(1, of / view) / share) * 180 / Math.PI;
    }
    this.camera.updateProjectionMatrix();
    const box = this.canvas.getBoundingClientRect();
    if (!f) return this.rim?.(null);
    const high = Math.min(box.height, box.width / (f.wide / f.high)) * 0.9, wide = high * f.wide / f.high;
    this.rim?.({ left: (box.width - wide) / 2, top: (box.height - high) / 2, width: wide, height: high });
  }

  /** Draws the model as frames see it into canvases, beside the view. */
  strip(frames, canvasOf) {
    const r = this.renderer, size = r.getSize(new THREE.Vector2()), marks = this.lampMarks, k = r.getPixelRatio(), cam = this.stripCamera ||= new THREE.PerspectiveCamera();
    if (marks) marks.visible = false;
    for (const f of frames) {
      const c = canvasOf(f);
      if (!c) continue;
      const wide = Math.min(size.x, c.width / k), high = Math.min(size.y, c.height / k);
      cam.fov = 2 * Math.atan(this.tallOf(f)) * 180 / Math.PI;
      cam.aspect = f.wide / f.high;
      cam.near = this.camera.near;
      cam.far = this.camera.far * 4;
      cam.position.set(...f.eye);
      cam.up.set(0, 1, 0);
      cam.lookAt(...f.at);
      cam.updateProjectionMatrix();
      r.setViewport(0, 0, wide, high);
      r.setScissor(0, 0, wide, high);
      r.setScissorTest(true);
      r.render(this.scene, cam);
      this.halo(cam);
      c.getContext('2d').drawImage(this.canvas, 0, this.canvas.height - high * k, wide * k, high * k, 0, 0, c.width, c.height);
    }
    r.setScissorTest(false);
    r.setViewport(0, 0, size.x, size.y);
    if (marks) marks.visible = true;
    this.drawScene();
  }

  /** Names the sets; their mesh may come later. */
  useSets(names) {
    if (!names.includes(this.flatSet)) this.flatSet = names[0] || '';
  }

  /** Takes the model as the server packs it. keep holds the camera where it is. */
  loadMesh(buffer, keep = false) {
    const n = new DataView(buffer).getUint32(0, true);
    const head = JSON.parse(new TextDecoder().decode(new Uint8Array(buffer, 4, n)));
    let at = 4 + n;
    const floats = k => { const a = new Float32Array(buffer, at, k); at += 4 * k; return a; };
    for (const s of this.sets.values()) {
      if (s.glow) { this.group.remove(s.glow); s.glow.geometry.dispose(); }
      this.group.remove(s.mesh, ...s.copies);
      s.shape?.geometry.dispose();
      s.mesh.geometry.dispose();
    }
    this.sets.clear();
    this.area = 0;
    this.lightUp(null);
    this.setHandle(null);
    head.sets.forEach((h, i) => {
      const g = new THREE.BufferGeometry();
      g.setAttribute('position', new THREE.BufferAttribute(floats(3 * h.vertices), 3));
      g.setAttribute('normal', new THREE.BufferAttribute(floats(3 * h.vertices), 3));
      g.setAttribute('tangent', new THREE.BufferAttribute(floats(4 * h.vertices), 4));
      g.setAttribute('uv', new THREE.BufferAttribute(floats(2 * h.vertices), 2));
      g.setIndex(new THREE.BufferAttribute(new Uint32Array(buffer, at, h.indices), 1));
      at += 4 * h.indices;
      h.parts.forEach(([, from, n], k) => g.addGroup(from, n, k));
      const lit = new THREE.MeshStandardMaterial({ metalness: 1, roughness: 1 });
      const flat = new THREE.ShaderMaterial({ vertexShader: FLAT_VERTEX, fragmentShader: FLAT_FRAGMENT,
        uniforms: { tex: { value: null }, pick: { value: new THREE.Vector3() }, grey: { value: false }, srgb: { value: false }, checks: { value: false }, orm: { value: null }, range: { value: new THREE.Vector4(...this.physical.range) }, mirror: { value: this.physical.mirror }, cells: { value: 0 } } });
      const tint = new THREE.Color('#c9c6bf').lerp(new THREE.Color(setColour(i)), 0.4);
      const plain = new THREE.MeshStandardMaterial({ color: tint, roughness: 0.75, metalness: 0, map: this.checker });
      const mesh = new THREE.Mesh(g, plain);
      mesh.castShadow = mesh.receiveShadow = true;
      this.group.add(mesh);
      this.sets.set(h.name, { index: i, mesh, copies: [], parts: h.parts, lit, flat, plain, pictures: this.picturesOf(h.name) });
    });
    for (const [name, views] of this.pictures) {
      if (this.sets.has(name)) continue;
      for (const p of Object.values(views)) for (const k of ['full', 'coarse']) p[k]?.texture.dispose();
      this.pictures.delete(name);
    }
    const min = new THREE.Vector3(...head.min), max = new THREE.Vector3(...head.max);
    this.mark(null);
    this.box = { min, max };
    this.middle = min.clone().add(max).multiplyScalar(0.5);
    this.size = max.clone().sub(min).length();
    this.ground.position.set(this.middle.x, min.y - this.size * 0.0005, this.middle.z);
    this.ground.scale.setScalar(this.size * 1.5);
    this.useSets(head.sets.map(h => h.name));
    this.arrange();
    this.figures();
    if (!keep) this.frame();
    this.setTurn(this.turn);
    this.apply();
  }

  /** Says that the model is a square that repeats, by the ways along its sides; null for any other. */
  repeat(sides) {
    if (JSON.stringify(sides) === JSON.stringify(this.sides ?? null)) return;
    this.sides = sides;
    for (const views of this.pictures.values()) for (const p of Object.values(views)) for (const k of ['full', 'coarse']) this.wrap(p[k]?.texture);
    this.arrange();
    this.draw();
  }

  /** Beyond its rim a square that repeats goes on from the other side. */
  wrap(t) {
    if (!t) return;
    const how = this.sides ? THREE.RepeatWrapping : THREE.ClampToEdgeWrapping;
    if (t.wrapS === how) return;
    t.wrapS = t.wrapT = how;
    t.needsUpdate = true;
  }

  /** The ways to the square and to those of its copies that are shown. */
  shifts() {
    if (!this.sides || !this.nine) return [new THREE.Vector3()];
    const u = new THREE.Vector3(...this.sides.u), v = new THREE.Vector3(...this.sides.v), out = [];
    for (const k of [0, -1, 1]) for (const j of [0, -1, 1]) out.push(u.clone().multiplyScalar(j).addScaledVector(v, k));
    return out;
  }

  /** Shows a square that repeats with its eight copies, or alone. */
  showNine(on) {
    if (this.nine === on) return;
    this.nine = on;
    this.arrange();
    if (this.box) this.frame();
  }

  /** Shows the height as shape, so many times as high as it is; null shows the surface as it is. */
  showShape(by) {
    if (this.shaped === by) return;
    this.shaped = by;
    this.arrange();
    this.draw();
  }

  /** Puts what is drawn of each set in its place: its own faces or those that the height moves, with their copies. */
  arrange() {
    const [, ...shifts] = this.shifts();
    for (const [name, s] of this.sets) {
      this.group.remove(...s.copies);
      const shape = this.shaped !== null && this.shapeOf(name, s);
      s.mesh.visible = !shape;
      s.copies = (shape ? [new THREE.Vector3(), ...shifts] : shifts).map(by => {
        const m = new THREE.Mesh(shape ? shape.geometry : s.mesh.geometry, s.mesh.material);
        m.position.copy(by);
        m.castShadow = m.receiveShadow = true;
        this.group.add(m);
        return m;
      });
    }
    this.backdrop();
    const c = this.light.shadow.camera, wide = (this.size || 1) * (shifts.length ? 3 : 1);
    c.left = c.bottom = -wide * 0.75;
    c.right = c.top = wide * 0.75;
    c.near = wide * 0.02;
    c.far = wide * 4;
    c.updateProjectionMatrix();
    this.renderer.shadowMap.needsUpdate = true;
  }

  /** A set's faces moved by its height, as far as that has come; null while it has not. */
  shapeOf(name, s) {
    const p = s.pictures.shape?.current;
    if (!p) return null;
    if (!s.shape) {
      const g = s.mesh.geometry, of = {};
      for (const k of ['position', 'normal', 'tangent', 'uv']) of[k] = g.attributes[k].array;
      // As fine as the machine draws quickly: about so many faces in all, of the set's share of the surface.
      const all = (this.software ? 60_000 : 700_000) / (this.nine ? 4 : 1);
      this.area ||= [...this.sets.values()].reduce((n, o) => n + areaOf(o.mesh.geometry), 0);
      const longest = Math.sqrt(this.area / all * 4), made = cut(of, g.index.array, s.parts.map(([, from, n]) => [from, n]), longest, all * 2);
      const geometry = new THREE.BufferGeometry();
      for (const [k, w] of [['normal', 3], ['tangent', 4], ['uv', 2]]) geometry.setAttribute(k, new THREE.BufferAttribute(made[k], w));
      geometry.setAttribute('position', new THREE.BufferAttribute(made.position.slice(), 3));
      geometry.setIndex(new THREE.BufferAttribute(made.index, 1));
      made.runs.forEach(([from, n], k) => geometry.addGroup(from, n, k));
      s.shape = { made, spots: places(made.position), geometry, texels: Math.sqrt(uvAreaOf(g) / areaOf(g)) * longest / 2 };
    }
    if (s.shape.of !== p || s.shape.stamp !== p.stamp || s.shape.by !== this.shaped) {
      Object.assign(s.shape, { of: p, stamp: p.stamp, by: this.shaped });
      const high = heights(p, SHAPE_RANGE, Math.max(0, Math.floor(Math.log2(s.shape.texels * p.size))));
      const at = s.shape.geometry.attributes.position;
      move(s.shape.made, s.shape.spots, high, !!this.sides, this.shaped, at.array);
      at.needsUpdate = true;
      s.shape.geometry.computeBoundingSphere();
      this.renderer.shadowMap.needsUpdate = true;
    }
    return s.shape;
  }

  /** Lays faces in a loud colour over the model, seen through what is before them; null takes them away. */
  mark(faces) {
    if (this.marks) {
      this.scene.remove(this.marks);
      this.marks.children.forEach(m => m.geometry.dispose());
      this.marks = null;
    }
    if (faces?.length) {
      const g = new THREE.BufferGeometry();
      g.setAttribute('position', new THREE.BufferAttribute(faces, 3));
      const fill = depth => new THREE.MeshBasicMaterial({ color: '#d0663c', transparent: true, opacity: depth ? 0.75 : 0.3, side: THREE.DoubleSide, depthTest: depth, depthWrite: false, polygonOffset: true, polygonOffsetFactor: -4, polygonOffsetUnits: -4 });
      this.marks = new THREE.Group();
      this.marks.add(new THREE.Mesh(g, fill(false)), new THREE.Mesh(g, fill(true)),
        new THREE.LineSegments(new THREE.WireframeGeometry(g), new THREE.LineBasicMaterial({ color: '#ffb08c', depthTest: false, transparent: true, opacity: 0.8 })));
      this.marks.renderOrder = 5;
      this.scene.add(this.marks);
    }
    this.draw();
  }

  /** Brings a box on the model into view without turning the camera. */
  frameBox(min, max) {
    const a = new THREE.Vector3(...min), b = new THREE.Vector3(...max), mid = a.clone().add(b).multiplyScalar(0.5);
    const r = Math.max(b.sub(a).length() / 2, this.size * 0.02);
    const dir = this.camera.position.clone().sub(this.orbit.target).normalize();
    // From the outside of the model, so that what is shown is not behind it.
    const out = mid.clone().sub(this.middle);
    if (out.dot(dir) < -0.1 * this.size) dir.reflect(out.normalize());
    this.framed = false;
    this.orbit.target.copy(mid);
    this.camera.position.copy(mid).addScaledVector(dir, r * 1.35 / Math.sin(this.camera.fov * Math.PI / 360));
    this.camera.near = Math.max(this.size / 2000, Math.min(this.size / 200, r / 20));
    this.camera.updateProjectionMatrix();
    this.orbit.update();
    this.draw();
  }

  /** Shows or hides the figure and the hand that stand beside the model for scale. */
  showFigure(on) {
    if (this.figureOn === on) return;
    this.figureOn = on;
    this.figures();
    if (this.box) this.frame();
  }

  figures() {
    if (this.figure) { this.scene.remove(this.figure); this.figure = null; }
    this.renderer.shadowMap.needsUpdate = true; // also when it takes its shadow away
    if (!this.figureOn || !this.box) { this.draw(); return; }
    const { min, max } = this.box, height = max.y - min.y, across = Math.max(max.x - min.x, max.z - min.z);
    const g = this.figure = new THREE.Group();
    const stuff = new THREE.MeshStandardMaterial({ color: '#8f8a80', roughness: 0.9, side: THREE.DoubleSide });
    const put = (shapes, tall, x, z) => {
      const m = new THREE.Mesh(new THREE.ExtrudeGeometry(shapes, { depth: 0.035, bevelEnabled: true, bevelSize: 0.012, bevelThickness: 0.012, bevelSegments: 2, curveSegments: 10 }), stuff);
      m.scale.setScalar(tall);
      m.position.set(x, min.y, z);
      m.rotation.y = 0.67;
      m.castShadow = true;
      g.add(m);
    };
    const most = Math.max(height, across);
    // A person of 1.75 m beside what is of that order, a hand of 19 cm beside what is small.
    if (most > 0.5 && most < 80) put(person(), 1.75, min.x - 0.5 - across * 0.06, this.middle.z);
    if (most < 4) put(hand(), 0.19, most > 0.5 ? this.middle.x - across * 0.12 : min.x - 0.13, most > 0.5 ? max.z + 0.16 : this.middle.z);
    this.scene.add(g);
    this.draw();
  }

  /** Puts the whole model in view. */
  frame() {
    this.camera.fov = 32;
    if (this.through) { this.through = null; this.rim?.(null); this.left?.(); }
    // What lies flat is seen from above.
    const low = this.box.max.y - this.box.min.y < 0.05 * this.size;
    const dir = (low ? new THREE.Vector3(0.35, 0.8, 0.62) : new THREE.Vector3(0.62, 0.26, 0.78)).normalize();
    // As near as the model's own points allow, with a margin.
    const side = new THREE.Vector3(0, 1, 0).cross(dir).normalize(), up = dir.clone().cross(side);
    const v = Math.tan(this.camera.fov * Math.PI / 360), h = v * this.camera.aspect, c = new THREE.Vector3();
    // The strip at the top is left free.
    const tall = Math.max(120, this.canvas.parentElement.clientHeight), strip = 44, room = tall / (tall - strip);
    let d = 0;
    const figure = this.figure?.children.length ? new THREE.Box3().setFromObject(this.figure) : null;
    const target = figure ? figure.clone().union(new THREE.Box3(this.box.min, this.box.max)).getCenter(new THREE.Vector3()) : this.middle.clone();
    for (const s of this.sets.values()) for (const by of this.shifts()) {
      const p = s.mesh.geometry.attributes.position;
      for (let i = 0; i < p.count; i++) {
        c.fromBufferAttribute(p, i).add(by).sub(target);
        d = Math.max(d, c.dot(dir) + Math.max(Math.abs(c.dot(side)) / h * 1.12, Math.abs(c.dot(up)) / v * room * 1.1));
      }
    }
    if (figure) {
      const b = figure;
      for (let i = 0; i < 8; i++) {
        c.set(i & 1 ? b.max.x : b.min.x, i & 2 ? b.max.y : b.min.y, i & 4 ? b.max.z : b.min.z).sub(target);
        d = Math.max(d, c.dot(dir) + Math.max(Math.abs(c.dot(side)) / h * 1.04, Math.abs(c.dot(up)) / v * room * 1.04));
      }
    }
    target.addScaledVector(up, d * v * strip / tall);
    this.camera.position.copy(target).addScaledVector(dir, d);
    this.framed = true;
    this.camera.near = this.size / 200;
    this.camera.far = this.size * 20;
    this.camera.updateProjectionMatrix();
    this.orbit.target.copy(target);
    this.orbit.update();
    this.draw();
  }

  resize() {
    const box = this.canvas.parentElement.getBoundingClientRect();
    if (box.width < 2 || box.height < 2) return;
    this.renderer.setPixelRatio(Math.min(2, devicePixelRatio));
    this.renderer.setSize(box.width, box.height, false);
    this.camera.aspect = box.width / box.height / (this.paired && !this.over ? 2 : 1);
    this.camera.updateProjectionMatrix();
    if (this.through) this.fitFrame();
    if (this.framed && this.box) this.frame(); else this.draw();
  }

  /** Draws on the next frame, once however often it is asked; nothing before the model and its light are there. */
  draw() {
    if (this.waiting || !this.sets.size || !this.scene.environment && !this.dark) return;
    this.waiting = true;
    requestAnimationFrame(() => {
      this.waiting = false;
      const began = performance.now();
      if (this.high) this.drawBoth(); else if (this.over && this.stageWipes()) this.drawBothStates(); else if (this.paired) this.drawPair(); else this.drawScene();
      this.frames++;
      this.drawn?.();
      requestAnimationFrame(now => { this.lag = now - began; });
    });
  }

  /** Draws the model as it is seen, with the halo of what shines. */
  drawScene() {
    this.renderer.render(this.scene, this.camera);
    this.halo(this.camera);
  }

  /** Spreads what shines round it, over what has been drawn. */
  halo(camera) {
    const of = this.setup?.surface, lit = [...this.sets.values()].filter(s => s.mesh.visible || s.copies.length);
    if (!of?.halo || !of.glow || this.mode !== 'lit' || this.high || !lit.some(s => s.lit.emissiveMap)) return;
    const hidden = [this.ground, this.figure, this.marks, this.lampMarks, this.handleGroup, this.shellGroup].filter(o => o?.visible), back = this.scene.background;
    for (const o of hidden) o.visible = false;
    this.scene.background = null;
    const swapped = [];
    for (const s of lit) {
      s.shine ||= new THREE.MeshBasicMaterial({ toneMapped: false });
      if (s.shine.map !== s.lit.emissiveMap) { s.shine.map = s.lit.emissiveMap; s.shine.needsUpdate = true; }
      s.shine.color.setScalar(s.lit.emissiveMap ? of.glow : 0);
      for (const m of [s.mesh, ...s.copies]) { swapped.push([m, m.material]); m.material = s.shine; }
    }
    (this.halos ||= new Halo(this.renderer)).draw(this.scene, camera, of.halo);
    for (const [m, material] of swapped) m.material = material;
    for (const o of hidden) o.visible = true;
    this.scene.background = back;
  }

  /** What pictures of a set there are, by view. */
  picturesOf(set) {
    if (!this.pictures.has(set)) this.pictures.set(set, {});
    return this.pictures.get(set);
  }

  /** The picture of a set's view; full or coarse. Made anew when its size changes. */
  picture(set, view, full, size) {
    const p = this.picturesOf(set)[view] ||= {};
    const key = full ? 'full' : 'coarse';
    if (p[key]?.size !== size) {
      p[key]?.texture.dispose();
      const data = new Uint8Array(size * size * 4);
      const t = new THREE.DataTexture(data, size, size);
      if (/(base|emissive)$/.test(view)) t.colorSpace = THREE.SRGBColorSpace;
      t.generateMipmaps = true;
      t.minFilter = THREE.LinearMipmapLinearFilter;
      t.magFilter = THREE.LinearFilter;
      t.anisotropy = Math.min(8, this.renderer.capabilities.getMaxAnisotropy());
      if (this.sides) t.wrapS = t.wrapT = THREE.RepeatWrapping;
      p[key] = { size, data, texture: t };
    }
    return p[key];
  }

  /** Takes a rectangle of RGBA texels. */
  rect(h, rgba) {
    const p = this.picture(h.set, h.view, h.full, h.size);
    for (let y = 0; y < h.h; y++) p.data.set(rgba.subarray(4 * y * h.w, 4 * (y + 1) * h.w), 4 * ((h.y + y) * h.size + h.x));
    (p.dirty ||= new Set()).add(h.y - h.y % SQUARE);
    if (this.lag < 50 && p === this.pictures.get(h.set)[h.view].current) this.soon();
  }

  /** Shows what has come of the pictures that are seen, without waiting for all of it, as often as the machine keeps up. */
  soon() {
    if (this.soonTimer) return;
    this.soonTimer = setTimeout(() => {
      this.soonTimer = 0;
      for (const views of this.pictures.values()) for (const p of Object.values(views)) if (p.current?.dirty) this.upload(p.current);
      this.drawFlat();
      this.draw();
    }, Math.max(30, 2 * this.lag));
  }

  /** Takes the changed rows of a picture to the graphics card with the next frame. */
  upload(p) {
    // A range is one row. Where much has changed the whole goes faster; once it is to go, ranges would stand in its way.
    p.all ||= !p.uploaded || 3 * SQUARE * p.dirty.size >= p.size;
    if (p.all) p.texture.clearUpdateRanges();
    else for (const y of p.dirty) for (let r = y; r < Math.min(p.size, y + SQUARE); r++) p.texture.addUpdateRange(4 * r * p.size, 4 * p.size);
    p.texture.onUpdate = () => { p.uploaded = true; p.all = false; };
    p.texture.needsUpdate = true;
    p.dirty = null;
  }

  /** The place of a set under the pointer, or else in the middle of the view; null when the model is not there. */
  near() {
    const box = this.canvas.getBoundingClientRect(), e = this.pointer || { clientX: box.left + box.width / 2, clientY: box.top + box.height / 2 };
    const hit = this.sets.size && this.pick(e);
    return hit ? { set: hit.set, x: hit.u - Math.floor(hit.u), y: 1 - (hit.v - Math.floor(hit.v)) } : null;
  }

  /** A picture has all its rectangles: show it. */
  whole(e) {
    const s = this.sets.get(e.set), p = this.picturesOf(e.set)[e.view], pic = p?.[e.full ? 'full' : 'coarse'];
    if (!pic) return;
    if (pic.dirty) this.upload(pic);
    p.current = pic;
    p.version = e.version;
    p.settled = e.full;
    pic.stamp = (pic.stamp || 0) + 1;
    if (!s) return; // its mesh is on the way
    if (e.view === 'shape' && this.shaped !== null) this.arrange();
    this.applySet(e.set, s);
    if (e.set === this.flatSet) this.drawFlat();
    this.drawAfter();
  }

  /** Draws what has come of several pictures in one frame, where a frame takes long. */
  drawAfter() {
    if (this.lag < 50) return this.draw();
    this.afterTimer ||= setTimeout(() => { this.afterTimer = 0; this.draw(); }, Math.min(250, 1.5 * this.lag));
  }

  /** Lets go the pictures of channels that no layer lays down. */
  uses(channels) {
    let gone = false;
    for (const views of this.pictures.values()) {
      for (const v of EXTRA) {
        if (!views[v] || channels.includes(v)) continue;
        for (const k of ['full', 'coarse']) views[v][k]?.texture.dispose();
        delete views[v];
        gone = true;
      }
    }
    if (gone) this.apply();
  }

  /** Chooses what is shown: lit, plain, map or one of SHOWS. */
  show(mode, kind) {
    this.mode = mode;
    this.mapKind = kind;
    this.apply();
  }

  apply() {
    for (const [name, s] of this.sets) this.applySet(name, s);
    this.drawFlat();
    this.draw();
  }

  applySet(name, s, side = '') {
    const now = v => s.pictures[side + v]?.current?.texture || null;
    let m = s.plain;
    if (this.high) {
      // The clay of the high-poly, with the baked normals where there are any.
      m = s.clay ||= clay();
      const t = this.maps.get(name + '/normal')?.texture || null;
      if (m.normalMap !== t) { m.normalMap = t; m.needsUpdate = true; }
    } else if (this.mode === 'lit') {
      if (now('base') && now('orm') && now('normal')) {
        const lit = side ? s.litKept ||= s.lit.clone() : s.lit, fresh = !lit.map;
        lit.map = now('base');
        lit.aoMap = lit.roughnessMap = lit.metalnessMap = now('orm');
        lit.normalMap = now('normal');
        const glow = now('emissive'), clear = now('opacity'), of = this.setup?.surface || { cut: 0.5, glow: 1 };
        const fades = !!clear && of.cut === 0, seen = clear || of.both ? THREE.DoubleSide : THREE.FrontSide, areas = this.areaShadows || 0;
        if (fresh || !glow !== !lit.emissiveMap || !clear !== !lit.alphaMap || fades !== lit.transparent || seen !== lit.side || areas !== (lit.defines.AREA_SHADOWS || 0)) lit.needsUpdate = true;
        if (areas) lit.defines.AREA_SHADOWS = areas; else delete lit.defines.AREA_SHADOWS;
        lit.emissiveMap = glow;
        lit.emissive.set(glow ? 0xffffff : 0);
        lit.emissiveIntensity = of.glow;
        lit.alphaMap = clear;
        // What is below the cut is left away; without one it fades, all but what is clear.
        lit.alphaTest = clear ? of.cut || 0.004 : 0;
        lit.transparent = fades;
        lit.side = seen;
        m = lit;
      }
    } else if (SHOWS[this.mode]) {
      const how = SHOWS[this.mode];
      const flat = side ? s.flatKept ||= s.flat.clone() : s.flat;
      const t = this.mode === 'map' ? this.maps.get(name + '/' + this.mapKind)?.texture : now(how.view);
      if (t) {
        const u = flat.uniforms;
        u.tex.value = t;
        u.pick.value.set(...how.pick);
        u.grey.value = how.grey;
        u.srgb.value = !!how.srgb;
        u.checks.value = !!how.checks && !!now('orm');
        u.orm.value = now('orm');
        u.cells.value = how.cells ? s.pictures[how.view].current.size / how.cells : 0;
        m = flat;
      }
    }
    const out = this.ghosts && !this.high && this.mode !== 'plain' ? s.parts.map(([part]) => this.ghosts.sets.has(name) || this.ghosts.parts.has(part)) : [];
    if (out.includes(true)) s.ghost ||= new THREE.MeshBasicMaterial({ color: '#8a8f92', transparent: true, opacity: 0.14, depthWrite: false });
    s.mesh.material = !out.includes(true) ? m : out.includes(false) ? out.map(o => o ? s.ghost : m) : s.ghost;
    for (const copy of s.copies) copy.material = s.mesh.material;
  }

  /** Loads a baked map's picture for the model. made changes when the map does. */
  async loadMap(url, set, kind, made) {
    const have = this.maps.get(set + '/' + kind);
    if (have?.made === made && have.url === url) return;
    const r = await fetch(url);
    if (r.ok) await this.takeMap(await r.blob(), set, kind, made, url);
  }

  /** Takes a map's picture for the model. */
  async takeMap(blob, set, kind, made, url = '') {
    const key = set + '/' + kind, have = this.maps.get(key);
    const bitmap = await createImageBitmap(blob, { colorSpaceConversion: 'none' });
    const texture = new THREE.Texture(bitmap);
    texture.flipY = false;
    texture.anisotropy = 4;
    texture.needsUpdate = true;
    have?.texture.dispose();
    this.maps.set(key, { made, texture, url });
    this.apply();
  }

  /** The set and the place on its square under the pointer, V downwards; null beside the model. */
  pick(e) {
    const box = this.canvas.getBoundingClientRect(), ray = this.ray ||= new THREE.Raycaster();
    ray.setFromCamera(new THREE.Vector2((e.clientX - box.left) / box.width * 2 - 1, 1 - (e.clientY - box.top) / box.height * 2), this.camera);
    let best = null;
    const from = ray.ray.origin.clone();
    for (const by of this.shifts()) for (const [name, s] of this.sets) {
      ray.ray.origin.copy(from).sub(by); // a copy is hit where the square itself would be
      const hit = ray.intersectObject(s.mesh, false)[0];
      if (hit?.uv && (!best || hit.distance < best.distance)) best = { set: name, u: hit.uv.x, v: hit.uv.y, distance: hit.distance, place: hit.point.add(by).toArray(), normal: hit.normal ? hit.normal.toArray() : hit.face.normal.toArray(), part: partAt(s.parts, 3 * hit.faceIndex) };
    }
    return best;
  }

  /** Where the ray of a point of the screen begins, and its direction. */
  rayAt(x, y) {
    const box = this.canvas.getBoundingClientRect(), ray = this.ray ||= new THREE.Raycaster();
    ray.setFromCamera(new THREE.Vector2((x - box.left) / box.width * 2 - 1, 1 - (y - box.top) / box.height * 2), this.camera);
    return [ray.ray.origin, ray.ray.direction];
  }

  /** Where a place of the model is seen on the screen. */
  screenOf(place) {
    const box = this.canvas.getBoundingClientRect(), p = (this.probeAt ||= new THREE.Vector3()).set(...place).project(this.camera);
    return [box.left + (p.x + 1) / 2 * box.width, box.top + (1 - p.y) / 2 * box.height];
  }

  /** Metres to a px of the screen, as far away as a place is. */
  metresPerPx(place) {
    const way = new THREE.Vector3(), depth = (this.probeAt ||= new THREE.Vector3()).set(...place).sub(this.camera.position).dot(this.camera.getWorldDirection(way));
    return 2 * depth * Math.tan(this.camera.fov * Math.PI / 360) / this.canvas.getBoundingClientRect().height;
  }

  /** How wide the square of the flat map is on the screen, in px. */
  flatFit() {
    const box = this.flatCanvas.getBoundingClientRect();
    return Math.min(box.width, box.height) * 0.9 * this.flatView.zoom;
  }

  /** Where a place of the flat map's square is seen on the screen. */
  flatOf(u, v) {
    const box = this.flatCanvas.getBoundingClientRect(), fit = this.flatFit();
    return [box.left + (box.width - fit) / 2 + this.flatView.x + u * fit, box.top + (box.height - fit) / 2 + this.flatView.y + v * fit];
  }

  /** Lights the paths of a stroke; null takes them away. */
  showPath(paths) {
    if (this.path) {
      this.scene.remove(this.path);
      this.path.children.forEach(l => l.geometry.dispose());
      this.path = null;
    }
    if (paths) {
      const off = this.size * 0.001;
      this.path = new THREE.Group();
      for (const path of paths) {
        const at = path.length > 1 ? path : [path[0], path[0]];
        const g = new THREE.BufferGeometry().setFromPoints(at.map((p, i) => new THREE.Vector3(p[0] + p[3] * off, p[1] + p[4] * off + (path.length > 1 ? 0 : i * off * 8), p[2] + p[5] * off)));
        this.path.add(new THREE.Line(g, this.pathStuff ||= new THREE.LineBasicMaterial({ color: '#efe6cf', depthTest: false, transparent: true, opacity: 0.95 })));
      }
      this.path.renderOrder = 8;
      this.scene.add(this.path);
    }
    this.draw();
  }

  /** The place on the flat map under the pointer; null beside it. */
  pickFlat(e) {
    const box = this.flatCanvas.getBoundingClientRect(), fit = Math.min(box.width, box.height) * 0.9 * this.flatView.zoom;
    const u = (e.clientX - box.left - (box.width - fit) / 2 - this.flatView.x) / fit, v = (e.clientY - box.top - (box.height - fit) / 2 - this.flatView.y) / fit;
    if (this.sides && this.nine && u >= -1 && u < 2 && v >= -1 && v < 2) {
      const i = Math.floor(u), j = Math.floor(v); // V grows downwards here, upwards on the model
      return { set: this.flatSet, u: u - i, v: v - j, by: new THREE.Vector3(...this.sides.u).multiplyScalar(i).addScaledVector(new THREE.Vector3(...this.sides.v), -j) };
    }
    return u >= 0 && u < 1 && v >= 0 && v < 1 ? { set: this.flatSet, u, v } : null;
  }

  /** The part that covers a place of a set's square; undefined where none does. */
  partOf(set, u, v) {
    const s = this.sets.get(set), g = s?.mesh.geometry, at = g?.index.array, uv = g?.attributes.uv.array;
    if (!s) return undefined;
    for (let i = 0; i < at.length; i += 3) {
      const [a, b, c] = [at[i] * 2, at[i + 1] * 2, at[i + 2] * 2];
      const side = (p, q) => (uv[q] - uv[p]) * (v - uv[p + 1]) - (uv[q + 1] - uv[p + 1]) * (u - uv[p]);
      const x = side(a, b), y = side(b, c), z = side(c, a);
      if (x >= 0 && y >= 0 && z >= 0 || x <= 0 && y <= 0 && z <= 0) return partAt(s.parts, i);
    }
    return undefined;
  }

  /** Shows the cage: the front shell in verdigris, the rear one in oxide, as thin lines; null takes it away. */
  showShells(shells) {
    if (this.shells === shells) return;
    this.shells = shells;
    if (this.shellGroup) {
      this.scene.remove(this.shellGroup);
      this.shellGroup.children.forEach(m => m.geometry.dispose());
      this.shellGroup = null;
    }
    if (shells) {
      this.shellGroup = new THREE.Group();
      for (const [points, colour, opacity] of [[shells.front, '#58b09c', 0.3], [shells.rear, '#d0663c', 0.22]]) {
        const g = new THREE.BufferGeometry();
        g.setAttribute('position', new THREE.BufferAttribute(points, 3));
        g.setIndex(new THREE.BufferAttribute(shells.index, 1));
        this.shellGroup.add(new THREE.LineSegments(new THREE.WireframeGeometry(g), new THREE.LineBasicMaterial({ color: colour, transparent: true, opacity, depthWrite: false })));
        if (points === shells.front) this.shellGroup.add(new THREE.Mesh(g, new THREE.MeshBasicMaterial({ color: colour, transparent: true, opacity: 0.07, depthWrite: false })));
      }
      this.scene.add(this.shellGroup);
    }
    this.draw();
  }

  /**
   * Draws the model with its baked normals on the left and the high-poly on the right, in one clay, under a light that
   * goes round; null ends it.
   */
  compare(high) {
    if (this.high === high) return;
    this.high = high;
    cancelAnimationFrame(this.turning);
    if (this.highMesh && (!high || this.highMesh.userData !== high)) {
      this.scene.remove(this.highMesh);
      this.highMesh.geometry.dispose();
      this.highMesh = null;
    }
    if (!high) {
      this.light.castShadow = true;
      this.camera.aspect = this.canvas.width / this.canvas.height;
      this.camera.updateProjectionMatrix();
      this.setTurn(this.before ?? this.turn);
      this.before = undefined;
      this.apply();
      return;
    }
    const g = new THREE.BufferGeometry();
    g.setAttribute('position', new THREE.BufferAttribute(high.position, 3));
    g.setAttribute('normal', new THREE.BufferAttribute(high.normal, 3));
    g.setIndex(new THREE.BufferAttribute(high.index, 1));
    this.highMesh = new THREE.Mesh(g, clay());
    this.highMesh.userData = high;
    this.highMesh.visible = false;
    this.scene.add(this.highMesh);
    this.before = this.turn;
    this.light.castShadow = false; // shadows of the two would differ where the shapes do
    this.apply();
    const t0 = performance.now(), a0 = this.turn;
    const step = now => {
      if (!this.high) return;
      this.setTurn(a0 + (now - t0) / 1000 * 0.9);
      this.turning = requestAnimationFrame(step);
    };
    this.turning = requestAnimationFrame(step);
  }

  /** One frame of the comparison. */
  drawBoth() {
    const r = this.renderer, size = r.getSize(new THREE.Vector2()), w = Math.floor(size.x / 2);
    this.camera.aspect = w / size.y;
    this.camera.updateProjectionMatrix();
    r.setScissorTest(true);
    for (const right of [false, true]) {
      r.setViewport(right ? w : 0, 0, w, size.y);
      r.setScissor(right ? w : 0, 0, w, size.y);
      this.group.visible = !right;
      this.highMesh.visible = right;
      r.render(this.scene, this.camera);
    }
    this.group.visible = true;
    this.highMesh.visible = false;
    r.setScissorTest(false);
    r.setViewport(0, 0, size.x, size.y);
  }

  /** Draws the model as it is painted and, beside it, as its delivered files have it; null draws it once. */
  pair(on) {
    if (this.paired === on) return;
    this.paired = on;
    if (!on) {
      this.camera.aspect = this.canvas.clientWidth / Math.max(1, this.canvas.clientHeight);
      this.camera.updateProjectionMatrix();
      this.drop('sent-');
      this.apply();
    }
    this.draw();
  }

  /** Takes a picture of what was delivered: size² texels of four bytes. */
  sent(set, view, size, rgba) {
    const p = this.picture(set, `sent-${view}`, true, size);
    p.data.set(rgba);
    p.all = true;
    p.dirty = new Set();
    this.upload(p);
    this.picturesOf(set)[`sent-${view}`].current = p;
    this.draw();
  }

  /** Takes the camera six times as far away, and back. */
  stepBack(far) {
    const t = this.orbit.target, d = this.camera.position.clone().sub(t);
    this.framed = false;
    this.camera.position.copy(t).add(d.multiplyScalar(far ? 6 : 1 / 6));
    this.orbit.update();
    this.draw();
  }

  drawPair() {
    const r = this.renderer, size = r.getSize(new THREE.Vector2()), w = Math.floor(size.x / 2);
    this.camera.aspect = w / size.y;
    this.camera.updateProjectionMatrix();
    r.setScissorTest(true);
    for (const side of ['', 'sent-']) {
      for (const [name, s] of this.sets) this.applySet(name, s, side);
      r.setViewport(side ? w : 0, 0, w, size.y);
      r.setScissor(side ? w : 0, 0, w, size.y);
      r.render(this.scene, this.camera);
    }
    r.setScissorTest(false);
    r.setViewport(0, 0, size.x, size.y);
    for (const [name, s] of this.sets) this.applySet(name, s);
  }

  /** Draws some sets and parts as ghosts, through which the others are seen. */
  ghost(sets, parts) {
    const some = sets.size || parts.size;
    if (!some && !this.ghosts) return;
    this.ghosts = some ? { sets, parts } : null;
    this.apply();
  }

  /** Lights a set, or a part of it or of all sets, on the model and on the flat map; null lights nothing. */
  lightUp(what) {
    const key = JSON.stringify(what);
    if (key === this.litKey) return;
    this.litKey = key;
    this.litUp = what;
    const stuff = this.litStuff ||= new THREE.MeshBasicMaterial({ color: '#58b09c', transparent: true, opacity: 0.42, depthWrite: false, polygonOffset: true, polygonOffsetFactor: -2, polygonOffsetUnits: -2 });
    for (const [name, s] of this.sets) {
      const run = this.litRun(name);
      if (s.glow) s.glow.visible = !!run;
      if (!run) continue;
      if (!s.glow) {
        // It shares what the set's mesh is made of, and is made once.
        const g = new THREE.BufferGeometry(), of = s.mesh.geometry;
        g.setAttribute('position', of.attributes.position);
        g.setIndex(of.index);
        s.glow = new THREE.Mesh(g, stuff);
        s.glow.frustumCulled = false;
        this.group.add(s.glow);
      }
      s.glow.geometry.setDrawRange(...run);
    }
    this.drawFlat();
    this.draw();
  }

  /**
   * Shows a handle that is dragged: a direction as an arrow from the model's middle, or a place on its surface; null takes it away.
   * @param {{way?: number[], place?: number[], live: (v: number[]) => void, commit: (v: number[]) => void} | null} h
   */
  setHandle(h) {
    if (this.handleGroup) {
      this.scene.remove(this.handleGroup);
      this.handleGroup.traverse(m => m.geometry?.dispose());
      this.handleGroup = null;
    }
    this.handle = h;
    if (h && this.box) {
      const g = this.handleGroup = new THREE.Group(), r = this.size * 0.016;
      const over = (geometry, opacity) => { const m = new THREE.Mesh(geometry, new THREE.MeshBasicMaterial({ color: '#58b09c', depthTest: false, transparent: true, opacity })); m.renderOrder = 9; g.add(m); return m; };
      g.userData.tip = over(new THREE.SphereGeometry(r, 20, 12), 0.95);
      g.userData.rim = over(new THREE.SphereGeometry(r * 1.5, 20, 12), 0.3);
      if (h.way) g.userData.shaft = over(new THREE.CylinderGeometry(r * 0.2, r * 0.2, 1, 8), 0.8);
      this.scene.add(g);
      this.moveHandle(h.way || h.place);
    }
    this.draw();
  }

  /** Puts the handle where its direction or place is. */
  moveHandle(v) {
    const { tip, rim, shaft } = this.handleGroup.userData, at = new THREE.Vector3(...v);
    this.handle.now = v;
    if (shaft) {
      const way = at.lengthSq() > 0 ? at.clone().normalize() : new THREE.Vector3(0, 1, 0), long = this.size * 0.2;
      at.copy(this.middle).addScaledVector(way, long);
      shaft.scale.set(1, long, 1);
      shaft.position.copy(this.middle).addScaledVector(way, long / 2);
      shaft.quaternion.setFromUnitVectors(new THREE.Vector3(0, 1, 0), way);
    }
    tip.position.copy(at);
    rim.position.copy(at);
    this.draw();
  }

  /** Where the handle is under the pointer: a direction by the ball round the model, a place by the model itself. */
  handleAt(e) {
    if (this.handle.place) return this.pick(e)?.place || null;
    const box = this.canvas.getBoundingClientRect(), ray = this.ray ||= new THREE.Raycaster();
    ray.setFromCamera(new THREE.Vector2((e.clientX - box.left) / box.width * 2 - 1, 1 - (e.clientY - box.top) / box.height * 2), this.camera);
    const ball = new THREE.Sphere(this.middle, this.size * 0.2), at = ray.ray.intersectSphere(ball, new THREE.Vector3()) || ray.ray.closestPointToPoint(this.middle, new THREE.Vector3());
    return at.sub(this.middle).normalize().toArray();
  }

  /** Drags the handle when the pointer goes down on it. */
  grab(e) {
    if (this.glint?.(e) || this.grabLamp(e)) return;
    if (!this.handleGroup || e.button) return;
    const p = this.handleGroup.userData.tip.position.clone().project(this.camera), box = this.canvas.getBoundingClientRect();
    if (Math.hypot(box.left + (p.x + 1) / 2 * box.width - e.clientX, box.top + (1 - p.y) / 2 * box.height - e.clientY) > 18) return;
    e.stopImmediatePropagation();
    const c = this.canvas, h = this.handle;
    this.grabbed = true; // so that the click that follows picks nothing
    c.setPointerCapture(e.pointerId);
    const move = m => {
      const v = this.handleAt(m);
      if (!v) return;
      this.moveHandle(v);
      h.live(v);
    };
    c.addEventListener('pointermove', move);
    c.addEventListener('pointerup', () => { c.removeEventListener('pointermove', move); h.commit(h.now); }, { once: true });
  }

  /** The run of a set's indices that is lit, from one on so many; null for none. */
  litRun(name) {
    const { set, part } = this.litUp || {}, s = this.sets.get(name);
    if (!this.litUp || set !== undefined && set !== name) return null;
    if (part === undefined) return [0, s.mesh.geometry.index.count];
    const of = s.parts.find(([p]) => p === part);
    return of ? [of[1], of[2]] : null;
  }

  /**
   * Draws something else into a canvas that lies over the model's, or stops; which part of it is seen is the canvas's own matter.
   * @param {HTMLCanvasElement | null} canvas @param {{side: string, mode?: string}} [of] whose pictures, by how their names begin, and another way of showing
   */
  overlay(canvas, of) {
    if (this.over === canvas && this.against === of) return;
    this.over = canvas;
    this.against = of;
    if (this.paired) this.resize();
    this.draw();
  }

  /** Lets go the pictures of a keepsake. */
  dropKept() { this.drop('kept-'); }

  /** Lets go the pictures whose views begin so. */
  drop(start) {
    for (const views of this.pictures.values()) {
      for (const v of Object.keys(views)) {
        if (!v.startsWith(start)) continue;
        for (const k of ['full', 'coarse']) views[v][k]?.texture.dispose();
        delete views[v];
      }
    }
  }

  /** Whether both sides of the wipe can be drawn. */
  stageWipes() {
    const { side, mode } = this.against, how = SHOWS[mode || this.mode], lit = (mode || this.mode) === 'lit';
    if (this.mode !== 'lit' && !SHOWS[this.mode] || !lit && !how || side && !lit && !['base', 'orm', 'normal'].includes(how.view)) return false;
    const needs = side || lit ? ['base', 'orm', 'normal'] : [how.view];
    return [...this.sets.values()].every(s => needs.every(v => s.pictures[side + v]?.current));
  }

  /** A frame of the other side, copied into the canvas over the model's, and one of what is. */
  drawBothStates() {
    const c = this.over, { side, mode } = this.against, was = this.mode;
    this.mode = mode || was;
    for (const [name, s] of this.sets) this.applySet(name, s, side);
    this.drawScene();
    if (c.width !== this.canvas.width || c.height !== this.canvas.height) { c.width = this.canvas.width; c.height = this.canvas.height; }
    c.getContext('2d').drawImage(this.canvas, 0, 0);
    this.mode = was;
    for (const [name, s] of this.sets) this.applySet(name, s);
    this.drawScene();
  }

  forgetMap(set, kind) { this.maps.delete(set + '/' + kind); }

  /** The texels of a set's settled view, for checks and for the flat map. */
  texels(set, view) {
    const p = this.sets.get(set)?.pictures[view];
    return p?.current ? { size: p.current.size, data: p.current.data, settled: p.settled, version: p.version } : null;
  }

  drawFlat() {
    const box = this.flatCanvas.parentElement.getBoundingClientRect();
    if (box.width < 2) return;
    const k = Math.min(2, devicePixelRatio);
    const c = this.flatCanvas;
    if (c.width !== Math.round(box.width * k) || c.height !== Math.round(box.height * k)) {
      c.width = Math.round(box.width * k);
      c.height = Math.round(box.height * k);
    }
    const g = c.getContext('2d');
    g.fillStyle = '#1b1b1b';
    g.fillRect(0, 0, c.width, c.height);
    const how = SHOWS[this.mode] || SHOWS.base;
    const t = this.texels(this.flatSet, how.view);
    if (!t) return;
    const off = this.off ||= document.createElement('canvas');
    off.width = off.height = t.size;
    let px = new Uint8ClampedArray(t.data);
    if (how.grey) {
      const at = how.pick.indexOf(1);
      for (let i = 0; i < px.length; i += 4) px[i] = px[i + 1] = px[i + 2] = t.data[i + at];
    }
    off.getContext('2d').putImageData(new ImageData(px, t.size, t.size), 0, 0);
    const fit = Math.min(c.width, c.height) * 0.9 * this.flatView.zoom;
    g.imageSmoothingEnabled = fit < t.size;
    const x = Math.round((c.width - fit) / 2 + this.flatView.x * k), y = Math.round((c.height - fit) / 2 + this.flatView.y * k);
    const wide = Math.round(fit);
    g.drawImage(off, x, y, wide, wide);
    if (this.sides && this.nine) for (const [i, j] of [[-1, -1], [0, -1], [1, -1], [-1, 0], [1, 0], [-1, 1], [0, 1], [1, 1]]) g.drawImage(off, x + i * wide, y + j * wide, wide, wide);
    this.lightFlat(g, x, y, fit);
    g.strokeStyle = setColour(this.sets.get(this.flatSet)?.index || 0);
    g.strokeRect(x - 0.5, y - 0.5, Math.round(fit) + 1, Math.round(fit) + 1);
  }

  /** Fills what is lit on the flat map. */
  lightFlat(g, x, y, fit) {
    if (!this.litUp) return;
    const of = this.sets.get(this.flatSet)?.mesh.geometry;
    if (!of) return;
    const at = of.index.array, uv = of.attributes.uv.array;
    g.fillStyle = 'rgba(88, 176, 156, 0.45)';
    g.beginPath();
    const [from, n] = this.litRun(this.flatSet) || [0, 0];
    for (let i = from; i < from + n; i += 3) {
      for (let k = 0; k < 3; k++) g[k ? 'lineTo' : 'moveTo'](x + uv[2 * at[i + k]] * fit, y + uv[2 * at[i + k] + 1] * fit);
      g.closePath();
    }
    g.fill();
  }

  flatPointer() {
    const c = this.flatCanvas, v = this.flatView;
    c.addEventListener('wheel', e => {
      e.preventDefault();
      const box = c.getBoundingClientRect(), k = e.deltaY < 0 ? 1.2 : 1 / 1.2;
      const next = Math.min(40, Math.max(0.5, v.zoom * k)), f = next / v.zoom;
      const mx = e.clientX - box.left - box.width / 2, my = e.clientY - box.top - box.height / 2;
      v.x = mx + (v.x - mx) * f;
      v.y = my + (v.y - my) * f;
      v.zoom = next;
      this.drawFlat();
    }, { passive: false });
    c.onpointerdown = e => {
      c.setPointerCapture(e.pointerId);
      const x0 = e.clientX - v.x, y0 = e.clientY - v.y;
      c.onpointermove = m => { v.x = m.clientX - x0; v.y = m.clientY - y0; this.drawFlat(); };
      c.onpointerup = () => { c.onpointermove = c.onpointerup = null; };
    };
    c.ondblclick = () => { Object.assign(v, { zoom: 1, x: 0, y: 0 }); this.drawFlat(); };
  }

  /** A picture of the model for the asset's card, as a PNG blob, as a frame has it if one is given. */
  async snapshot(frame) {
    if (this.lampMarks) this.lampMarks.visible = false;
    if (frame) {
      const c = document.createElement('canvas');
      c.width = 480;
      c.height = 360;
      const k = this.renderer.getPixelRatio();
      if (this.canvas.width >= 480 && this.canvas.height >= 360) {
        // Of the frame as much as the card's proportion has.
        const f = { ...frame, mm: frame.mm * Math.max(1, (4 / 3) / (frame.wide / frame.high)), wide: 4, high: 3 };
        const shrunk = { getContext: () => c.getContext('2d'), width: 480 * Math.min(1, k), height: 360 * Math.min(1, k) };
        if (k >= 1) this.strip([f], () => c); else this.strip([f], () => shrunk);
        if (this.lampMarks) this.lampMarks.visible = true;
        this.draw();
        return new Promise(r => c.toBlob(r, 'image/png'));
      }
    }
    this.drawScene();
    if (this.lampMarks) { this.lampMarks.visible = true; this.draw(); }
    const w = 480, h = 360, c = document.createElement('canvas');
    c.width = w;
    c.height = h;
    const k = Math.max(w / this.canvas.width, h / this.canvas.height);
    const sw = w / k, sh = h / k;
    c.getContext('2d').drawImage(this.canvas, (this.canvas.width - sw) / 2, (this.canvas.height - sh) / 2, sw, sh, 0, 0, w, h);
    return new Promise(r => c.toBlob(r, 'image/png'));
  }
}

/** The area of a geometry's faces in square metres. */
function areaOf(g) {
  const a = new THREE.Vector3(), b = new THREE.Vector3(), c = new THREE.Vector3(), p = g.attributes.position, at = g.index.array;
  let sum = 0;
  for (let i = 0; i < at.length; i += 3) {
    a.fromBufferAttribute(p, at[i]);
    b.fromBufferAttribute(p, at[i + 1]).sub(a);
    sum += b.cross(c.fromBufferAttribute(p, at[i + 2]).sub(a)).length() / 2;
  }
  return sum;
}

/** The area of a geometry's faces on their square. */
function uvAreaOf(g) {
  const uv = g.attributes.uv.array, at = g.index.array;
  let sum = 0;
  for (let i = 0; i < at.length; i += 3) {
    const [a, b, c] = [2 * at[i], 2 * at[i + 1], 2 * at[i + 2]];
    sum += Math.abs((uv[b] - uv[a]) * (uv[c + 1] - uv[a + 1]) - (uv[b + 1] - uv[a + 1]) * (uv[c] - uv[a])) / 2;
  }
  return sum;
}

/** The part whose run of indices holds one. */
function partAt(parts, index) { return parts.find(([, from, n]) => index >= from && index < from + n)?.[0]; }

/** The outline of a person one unit tall, feet at 0, facing us. */
function person() {
  const s = new THREE.Shape();
  const right = [[0.03, 0.0], [0.075, 0.0], [0.078, 0.02], [0.062, 0.03], [0.068, 0.25], [0.082, 0.45], [0.088, 0.52], [0.082, 0.6], [0.098, 0.72], [0.112, 0.64], [0.118, 0.5], [0.112, 0.44], [0.128, 0.43], [0.146, 0.5], [0.144, 0.64], [0.132, 0.77], [0.108, 0.815], [0.04, 0.84], [0.034, 0.868]];
  s.moveTo(0, 0.44);
  s.lineTo(0.012, 0.42);
  for (const [x, y] of right) s.lineTo(x, y);
  s.absarc(0, 0.93, 0.065, -1.0, Math.PI + 1.0, false);
  for (const [x, y] of right.toReversed()) s.lineTo(-x, y);
  s.lineTo(-0.012, 0.42);
  s.closePath();
  return [s];
}

/** The outline of a hand one unit tall, wrist at 0, fingers up. */
function hand() {
  const s = new THREE.Shape();
  s.moveTo(-0.15, 0);
  s.lineTo(0.15, 0);
  s.lineTo(0.19, 0.18);
  const finger = (x0, x1, foot, tip) => {
    s.lineTo(x1, foot);
    s.lineTo(x1, tip - (x1 - x0) / 2);
    s.absarc((x0 + x1) / 2, tip - (x1 - x0) / 2, Math.abs(x1 - x0) / 2, 0, Math.PI, false);
    s.lineTo(x0, foot);
  };
  s.lineTo(0.22, 0.4);
  finger(0.125, 0.215, 0.48, 0.8);
  finger(0.01, 0.11, 0.52, 0.95);
  finger(-0.105, -0.005, 0.53, 1);
  finger(-0.215, -0.12, 0.5, 0.92);
  s.lineTo(-0.23, 0.36);
  s.lineTo(-0.33, 0.5);
  s.quadraticCurveTo(-0.41, 0.56, -0.42, 0.47);
  s.lineTo(-0.27, 0.17);
  s.closePath();
  return [s];
}

/**
 * A cube of surroundings that the server has filtered for every roughness, level by level from size texels a side down to 4. The library
 * counts the levels below the first, and takes the last of them but one for what is roughest.
 */
function cubeOf(px, size) {
  let at = 0;
  const faces = n => Array.from({ length: 6 }, () => { const f = new THREE.DataTexture(px.subarray(at, at + 4 * n * n), n, n, THREE.RGBAFormat, THREE.HalfFloatType); at += 4 * n * n; return f; });
  const t = new THREE.CubeTexture(faces(size));
  for (let n = size / 2; n >= 4; n /= 2) t.mipmaps.push({ width: n, height: n, image: faces(n) });
  t.type = THREE.HalfFloatType;
  t.generateMipmaps = false;
  t.minFilter = THREE.LinearMipmapLinearFilter;
  t.isPMREMTexture = true;
  t.needsUpdate = true;
  return t;
}

/** A disc that is seen only where a shadow falls on it, as in stills; it has no cost of light. */
function groundDisc() {
  const mesh = new THREE.Mesh(new THREE.CircleGeometry(1, 64), new THREE.ShadowMaterial({ opacity: 0.55, depthWrite: false }));
  mesh.rotation.x = -Math.PI / 2;
  mesh.receiveShadow = true;
  mesh.renderOrder = -1;
  return mesh;
}

/** What both sides of a comparison are made of. */
function clay() { return new THREE.MeshStandardMaterial({ color: '#a39c90', roughness: 0.55, metalness: 0 }); }

/** A checker for looking at UVs: 32 squares a side. */
function checker() {
  const n = 512, c = document.createElement('canvas');
  c.width = c.height = n;
  const g = c.getContext('2d');
  for (let y = 0; y < 32; y++) for (let x = 0; x < 32; x++) {
    g.fillStyle = (x + y) % 2 ? '#f4f2ee' : '#a9a69f';
    g.fillRect(x * 16, y * 16, 16, 16);
  }
  const t = new THREE.CanvasTexture(c);
  t.colorSpace = THREE.SRGBColorSpace;
  t.flipY = false;
  t.wrapS = t.wrapT = THREE.RepeatWrapping;
  t.anisotropy = 8;
  return t;
}
