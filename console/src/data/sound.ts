import { useSyncExternalStore } from "react";
import type { Severity } from "./types";

/** The console's own sounds: three patterns that are told apart without looking, made of sine tones with soft edges. Each is a list of
 *  tones: when it begins and how long it lasts, s; its pitch, Hz; what it glides to. */
type Tone = [at: number, lasts: number, from: number, to: number];
export const patterns: Record<Severity, Tone[]> = {
  digest: [[0, 0.16, 523, 523]], // one
  now: [
    [0, 0.16, 440, 440],
    [0.22, 0.3, 659, 659],
  ], // two, rising
  wake: [
    [0, 0.18, 784, 392],
    [0.24, 0.18, 784, 392],
    [0.48, 0.5, 784, 294],
  ], // three that fall
};

const key = "hylostat.sound";

/** How long a sound waits before it is repeated, ms. */
const repeatAfter = 8000;

/** Sounds in this browser, if somebody lets them: a browser that nobody has touched yet is silent, and says so. */
class Sound {
  private context?: AudioContext;
  private listeners = new Set<() => void>();
  private repeating = new Map<number, ReturnType<typeof setInterval>>();
  on = localStorage.getItem(key) !== "off";
  /** How many patterns were played; tests look at it. */
  played = 0;

  private ready(): AudioContext | undefined {
    if (typeof AudioContext === "undefined") return undefined;
    this.context ??= new AudioContext();
    if (this.context.state === "suspended") this.context.resume().then(this.changed, () => undefined);
    return this.context;
  }

  private changed = () => {
    for (const l of this.listeners) l();
  };

  /** Whether the browser lets it sound: it does once somebody has touched the page. */
  get allowed() {
    return this.context?.state === "running";
  }

  /** Plays a pattern; `repeat` has it come again until stop(alert). */
  play(severity: Severity, alert = 0, repeat = false) {
    if (!this.on) return;
    const once = () => {
      const c = this.ready();
      if (!c) return;
      for (const [at, lasts, from, to] of patterns[severity]) {
        const tone = c.createOscillator();
        const loud = c.createGain();
        const begins = c.currentTime + 0.02 + at;
        tone.frequency.setValueAtTime(from, begins);
        tone.frequency.exponentialRampToValueAtTime(to, begins + lasts);
        loud.gain.setValueAtTime(0, begins);
        loud.gain.linearRampToValueAtTime(0.25, begins + 0.015);
        loud.gain.setTargetAtTime(0, begins + lasts - 0.04, 0.03);
        tone.connect(loud).connect(c.destination);
        tone.start(begins);
        tone.stop(begins + lasts + 0.2);
      }
      this.played++;
      this.changed();
    };
    once();
    if (!repeat || alert === 0) return;
    this.stop(alert);
    this.repeating.set(alert, setInterval(once, repeatAfter));
  }

  /** Ends the repetition for an alert that somebody has taken. */
  stop(alert: number) {
    clearInterval(this.repeating.get(alert));
    this.repeating.delete(alert);
  }

  /** The alerts for which it sounds again and again. */
  get waiting() {
    return [...this.repeating.keys()];
  }

  turn(on: boolean) {
    this.on = on;
    localStorage.setItem(key, on ? "on" : "off");
    if (on)
      this.play("digest"); // so that one hears that it works
    else for (const a of this.waiting) this.stop(a);
    this.changed();
  }

  /** A page may sound once it has been touched. */
  touched = () => {
    if (this.on) this.ready();
  };

  subscribe = (l: () => void) => {
    this.listeners.add(l);
    return () => this.listeners.delete(l);
  };

  /** What is known of it, as one text: it changes when anything does. */
  state = () => `${this.on} ${this.allowed} ${this.played}`;
}

export const sound = new Sound();

/** The sound, for a page that shows how it stands. */
export function useSound(): Sound {
  useSyncExternalStore(sound.subscribe, sound.state);
  return sound;
}

/** Says it beside the page, where somebody has allowed it. */
export function notice(title: string, words: string, open: () => void) {
  if (typeof Notification === "undefined" || Notification.permission !== "granted" || document.visibilityState === "visible") return;
  const n = new Notification(title, { body: words, tag: words });
  n.onclick = () => {
    window.focus();
    open();
  };
}
