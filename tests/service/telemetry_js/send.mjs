// Sends one request's spans and one log record with OpenTelemetry's SDK for JavaScript: node send.mjs URL KEY json|proto
import { SpanKind, SpanStatusCode, context, trace } from "@opentelemetry/api";
import { SeverityNumber } from "@opentelemetry/api-logs";
import { OTLPLogExporter } from "@opentelemetry/exporter-logs-otlp-http";
import { OTLPTraceExporter } from "@opentelemetry/exporter-trace-otlp-http";
import { OTLPTraceExporter as OTLPProtoExporter } from "@opentelemetry/exporter-trace-otlp-proto";
import { resourceFromAttributes } from "@opentelemetry/resources";
import { BatchLogRecordProcessor, LoggerProvider } from "@opentelemetry/sdk-logs";
import { BasicTracerProvider, BatchSpanProcessor } from "@opentelemetry/sdk-trace-base";

const [url, key, form] = process.argv.slice(2);
const headers = { Authorization: `Bearer ${key}` };
const resource = resourceFromAttributes({
  "service.name": "pierboard",
  "service.version": "3.1.0",
  "deployment.environment.name": "staging",
});
const Exporter = form === "proto" ? OTLPProtoExporter : OTLPTraceExporter;
const exporter = new Exporter({ url: `${url}/v1/traces`, headers, compression: form === "proto" ? "gzip" : "none" });
const tracers = new BasicTracerProvider({ resource, spanProcessors: [new BatchSpanProcessor(exporter)] });
const tracer = tracers.getTracer("pierboard");

function level(tides, pier) {
  return tides[pier].level;
}

const asked = tracer.startSpan("GET /board", {
  kind: SpanKind.SERVER,
  attributes: { "http.request.method": "GET", "http.route": "/board/{pier}", "http.response.status_code": 500, "user.id": "p-7" },
});
const inside = trace.setSpan(context.active(), asked);
const call = tracer.startSpan("GET", { kind: SpanKind.CLIENT, attributes: { "http.request.method": "GET", "url.full": "http://tides.example/now" } }, inside);
call.end();
let caught;
try {
  level({}, "eastholm");
} catch (error) {
  caught = error;
  asked.recordException(error);
  asked.setStatus({ code: SpanStatusCode.ERROR, message: "no level" });
}
asked.end();
const logExporter = new OTLPLogExporter({ url: `${url}/v1/logs`, headers });
const loggers = new LoggerProvider({ resource, processors: [new BatchLogRecordProcessor({ exporter: logExporter })] });
const logger = loggers.getLogger("pier.board");
logger.emit({ severityNumber: SeverityNumber.WARN, severityText: "WARN", body: "the board shows yesterday", attributes: { pier: "eastholm" } });
logger.emit({
  severityNumber: SeverityNumber.ERROR,
  body: "could not draw",
  attributes: { "exception.type": "RangeError", "exception.message": "no row 9", "exception.stacktrace": new RangeError("no row 9").stack },
});
await tracers.forceFlush();
await loggers.forceFlush();
await tracers.shutdown();
await loggers.shutdown();
