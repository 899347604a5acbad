/** Samples within ±1 as a WAV file: 16 bit, one channel. */
export function wavOf(pieces: readonly Float32Array[], rate: number): Blob {
  const count = pieces.reduce((n, p) => n + p.length, 0)
  const bytes = new DataView(new ArrayBuffer(44 + count * 2))
  const text = (at: number, word: string) => [...word].forEach((letter, i) => bytes.setUint8(at + i, letter.charCodeAt(0)))
  text(0, 'RIFF'); bytes.setUint32(4, 36 + count * 2, true); text(8, 'WAVEfmt ')
  bytes.setUint32(16, 16, true); bytes.setUint16(20, 1, true); bytes.setUint16(22, 1, true); bytes.setUint32(24, rate, true)
  bytes.setUint32(28, rate * 2, true); bytes.setUint16(32, 2, true); bytes.setUint16(34, 16, true); text(36, 'data'); bytes.setUint32(40, count * 2, true)
  let at = 44
  for (const piece of pieces) for (const sample of piece) { bytes.setInt16(at, Math.max(-1, Math.min(1, sample)) * 32767, true); at += 2 }
  return new Blob([bytes], { type: 'audio/wav' })
}

/** Any sound file that this browser can open, as a WAV; a WAV or a CSV stays as it is. */
export async function asWav(file: File): Promise<File> {
  const head = new TextDecoder('latin1').decode(await file.slice(0, 4).arrayBuffer())
  if (head === 'RIFF' || /\.csv$/i.test(file.name) || file.type === 'text/csv') return file
  const context = new OfflineAudioContext(1, 1, 44100)
  const sound = await context.decodeAudioData(await file.arrayBuffer())
  return new File([wavOf([sound.getChannelData(0)], sound.sampleRate)], file.name.replace(/\.\w+$/, '') + '.wav', { type: 'audio/wav' })
}

export interface Listening { stop: () => Promise<Blob> }

/** Record from this device's microphone, unimproved: no canceller, no gain, no noise gate, for they take the drive for noise. */
export async function listen(onLevel: (level: number) => void): Promise<Listening> {
  const stream = await navigator.mediaDevices.getUserMedia({ audio: { echoCancellation: false, noiseSuppression: false, autoGainControl: false, channelCount: 1 } })
  const context = new AudioContext()
  await context.audioWorklet.addModule('/listen-worklet.js')
  const source = context.createMediaStreamSource(stream)
  const tap = new AudioWorkletNode(context, 'tap')
  const pieces: Float32Array[] = []
  tap.port.onmessage = ({ data }: MessageEvent<Float32Array>) => {
    pieces.push(data)
    let top = 0
    for (const sample of data) top = Math.max(top, Math.abs(sample))
    onLevel(top)
  }
  source.connect(tap)
  return {
    stop: async () => {
      source.disconnect()
      for (const track of stream.getTracks()) track.stop()
      const rate = context.sampleRate
      await context.close()
      return wavOf(pieces, rate)
    },
  }
}

/** Is there a microphone that this page may ask for? Browsers give none to a page that is not secure. */
export const mayListen = (): boolean => window.isSecureContext && navigator.mediaDevices !== undefined
