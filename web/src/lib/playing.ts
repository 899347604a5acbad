let playing: HTMLAudioElement | null = null

/** Play a sound, or a piece of it from a second on for so long; what played before falls silent. */
export function play(url: string, from = 0, length: number | null = null, speed = 1): void {
  playing?.pause()
  const sound = new Audio(url)
  playing = sound
  sound.preservesPitch = false
  sound.playbackRate = speed
  sound.addEventListener('loadedmetadata', () => { sound.currentTime = from; void sound.play().catch(() => undefined) }, { once: true })
  if (length !== null) sound.addEventListener('timeupdate', () => { if (sound.currentTime >= from + length) sound.pause() })
}

export const stopPlaying = (): void => playing?.pause()
