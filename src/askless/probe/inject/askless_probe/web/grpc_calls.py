"""gRPC servers: one call, one request with the method's name, by an interceptor in front of the program's own."""

from functools import wraps

from .. import recorder

_KINDS = {  # of a handler's method: (attribute, how it is made anew)
    (False, False): ("unary_unary", "unary_unary_rpc_method_handler"),
    (False, True): ("unary_stream", "unary_stream_rpc_method_handler"),
    (True, False): ("stream_unary", "stream_unary_rpc_method_handler"),
    (True, True): ("stream_stream", "stream_stream_rpc_method_handler"),
}


def _begun(method):
    try:
        around = recorder.around()
        if recorder.active and (around is None or around.kind == "block"):
            return recorder.begin("call", "gRPC " + method)
    except Exception as error:
        recorder.complain("can't tell gRPC calls apart: %s: %s" % (type(error).__name__, error))
    return None


def _answering(behaviour, method):
    """A behaviour with one answer."""

    @wraps(behaviour)
    def answer(request, context):
        opened = _begun(method)
        try:
            return behaviour(request, context)
        finally:
            if opened is not None:
                recorder.end(*opened)

    return answer


def _streaming(behaviour, method):
    """A behaviour with many answers: the call is open until the last one."""

    @wraps(behaviour)
    def answers(request, context):
        opened = _begun(method)
        try:
            yield from behaviour(request, context)
        finally:
            if opened is not None:
                recorder.end(*opened)

    return answers


def _answering_async(behaviour, method):
    @wraps(behaviour)
    async def answer(request, context):
        opened = _begun(method)
        try:
            return await behaviour(request, context)
        finally:
            if opened is not None:
                recorder.end(*opened)

    return answer


def _streaming_async(behaviour, method):
    @wraps(behaviour)
    async def answers(request, context):
        opened = _begun(method)
        try:
            async for item in behaviour(request, context):
                yield item
        finally:
            if opened is not None:
                recorder.end(*opened)

    return answers


def _recorded(handler, method, grpc, is_async):
    if handler is None:
        return None
    name, make = _KINDS[bool(handler.request_streaming), bool(handler.response_streaming)]
    behaviour = getattr(handler, name)
    if is_async and _is(behaviour, "isasyncgenfunction"):
        wrapped = _streaming_async(behaviour, method)
    elif is_async and _is(behaviour, "iscoroutinefunction"):  # a stream too may be written to its context by one
        wrapped = _answering_async(behaviour, method)
    else:
        wrapped = (_streaming if handler.response_streaming else _answering)(behaviour, method)
    return _made(grpc, make, handler, wrapped)


def _made(grpc, make, handler, behaviour):
    return getattr(grpc, make)(
        behaviour,
        request_deserializer=handler.request_deserializer,
        response_serializer=handler.response_serializer,
    )


def _is(behaviour, kind):
    import inspect

    return getattr(inspect, kind)(behaviour)


def install(module):
    """Put our interceptor in front of those that `grpc.server` is given."""
    plain = module.server

    class Interceptor(module.ServerInterceptor):
        def intercept_service(self, continuation, handler_call_details):
            return _recorded(continuation(handler_call_details), handler_call_details.method, module, False)

    @wraps(plain)
    def server(thread_pool, handlers=None, interceptors=None, *args, **kwargs):
        return plain(thread_pool, handlers, (Interceptor(), *(interceptors or ())), *args, **kwargs)

    module.server = server


def install_aio(module):
    """The same for `grpc.aio.server`."""
    import grpc

    plain = module.server

    class Interceptor(module.ServerInterceptor):
        async def intercept_service(self, continuation, handler_call_details):
            return _recorded(await continuation(handler_call_details), handler_call_details.method, grpc, True)

    @wraps(plain)
    def server(migration_thread_pool=None, handlers=None, interceptors=None, *args, **kwargs):
        return plain(migration_thread_pool, handlers, (Interceptor(), *(interceptors or ())), *args, **kwargs)

    module.server = server
