// Hands the microphone's samples on as they come; what is done with them is the page's.
class Tap extends AudioWorkletProcessor {
  process(inputs) {
    const own = inputs[0][0]
    if (own) this.port.postMessage(own.slice(0))
    return true
  }
}
registerProcessor('tap', Tap)
